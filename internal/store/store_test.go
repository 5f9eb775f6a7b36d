package store

import (
	"context"
	"crypto/ed25519"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"metabasis/internal/core/night"
	"metabasis/internal/core/work"
	"metabasis/internal/store/within"
)

func TestJournalKeepsNightsAcrossReopening(t *testing.T) {
	file := filepath.Join(t.TempDir(), "a b#?.db")
	j, err := OpenJournal(file)
	require.NoError(t, err)
	began := time.Date(2026, 12, 2, 1, 30, 0, 0, time.UTC)
	w, err := j.Begin(NightHead{Began: began, Title: "Quays", Change: "MSF-2291", File: "q.runbook", Runbook: "runbook"})
	require.NoError(t, err)
	var want []night.Event
	want = append(want, night.Event{Seq: 1, At: began, Kind: night.Planned, Outline: &night.Outline{Title: "Quays"}})
	for i := 1; i < 200; i++ {
		want = append(want, night.Event{Seq: int64(i + 1), At: began.Add(time.Duration(i)), Kind: night.Doing, Device: "ald-quay-1", Note: "note"})
	}
	require.NoError(t, w.Append(want[:3]))
	require.NoError(t, w.Append(want[3:]))
	assert.Error(t, w.Append(want[:1]), "an event is never written twice")
	require.NoError(t, j.Close())

	j, err = OpenJournal(file)
	require.NoError(t, err)
	defer j.Close()
	got, err := j.Events(context.Background(), w.ID)
	require.NoError(t, err)
	assert.Equal(t, want, got)
	heads, err := j.Nights(context.Background())
	require.NoError(t, err)
	require.Len(t, heads, 1)
	assert.Equal(t, "MSF-2291", heads[0].Change)
	assert.True(t, began.Equal(heads[0].Began))
	_, err = j.Events(context.Background(), 99)
	assert.ErrorIs(t, err, ErrNoNight)
}

// What happened on one device is its part of the night, and no other's, however names are alike.
func TestEventsOfOneDevice(t *testing.T) {
	j, err := OpenJournal(filepath.Join(t.TempDir(), "j.db"))
	require.NoError(t, err)
	defer j.Close()
	w, err := j.Begin(NightHead{Began: time.Now(), Title: "Quays", Runbook: "runbook"})
	require.NoError(t, err)
	names := []string{"", "quay-1", "quay-11", "a-quay-1", "quay-2"}
	all := []night.Event{{Seq: 1, Kind: night.Planned, Outline: &night.Outline{Title: "Quays"}}}
	require.NoError(t, w.Append(all))
	for i := range 100 {
		e := night.Event{Seq: int64(i + 2), Kind: night.Doing, Device: names[i*7%len(names)], Note: "beside quay-1"}
		require.NoError(t, w.Append([]night.Event{e}))
		all = append(all, e)
	}
	for _, name := range append(names[1:], "quay-99") {
		want := slices.DeleteFunc(slices.Clone(all), func(e night.Event) bool { return e.Kind != night.Planned && e.Device != name })
		got, err := j.EventsOf(t.Context(), w.ID, name)
		require.NoError(t, err)
		assert.Equal(t, want, got, name)
	}
	_, err = j.EventsOf(t.Context(), 99, "quay-1")
	assert.ErrorIs(t, err, ErrNoNight)
	_, err = j.db.Exec(`UPDATE events SET body = '[' || char(34) || 'quay-2' || char(34) WHERE seq = 50`)
	require.NoError(t, err)
	_, err = j.EventsOf(t.Context(), w.ID, "quay-2")
	var damaged *Damaged
	assert.ErrorAs(t, err, &damaged)
}

// What came behind an event is read from the row that it stands in, wherever in it.
func TestEventsBehindOne(t *testing.T) {
	file := filepath.Join(t.TempDir(), "metabasis.db")
	j, err := OpenJournal(file)
	require.NoError(t, err)
	defer j.Close()
	w, err := j.Begin(NightHead{Began: time.Now(), Title: "Quays", Runbook: "runbook"})
	require.NoError(t, err)
	seq := int64(0)
	for _, together := range []int{1, 4, 2, 1} {
		var events []night.Event
		for range together {
			seq++
			e := night.Event{Seq: seq, Kind: night.Doing, Note: strconv.FormatInt(seq, 10)}
			if seq == 1 {
				e = night.Event{Seq: 1, Kind: night.Planned, Outline: &night.Outline{Title: "Quays"}}
			}
			events = append(events, e)
		}
		require.NoError(t, w.Append(events))
	}
	for after := range seq + 2 {
		got, err := j.EventsAfter(t.Context(), w.ID, after)
		require.NoError(t, err)
		assert.Len(t, got, int(max(0, seq-after)), "behind %d", after)
		for i, e := range got {
			assert.Equal(t, after+int64(i)+1, e.Seq)
		}
	}
	none, err := j.EventsAfter(t.Context(), w.ID+1, 0)
	require.NoError(t, err)
	assert.Empty(t, none)
	_, err = j.db.Exec(`DELETE FROM events WHERE seq = 6`)
	require.NoError(t, err)
	_, err = j.EventsAfter(t.Context(), w.ID, 3)
	var damaged *Damaged
	require.ErrorAs(t, err, &damaged, "a hole is no end")
}

func TestJournalIsDurable(t *testing.T) {
	j, err := OpenJournal(filepath.Join(t.TempDir(), "j.db"))
	require.NoError(t, err)
	defer j.Close()
	var mode string
	var synchronous int
	require.NoError(t, j.db.QueryRow("PRAGMA journal_mode").Scan(&mode))
	require.NoError(t, j.db.QueryRow("PRAGMA synchronous").Scan(&synchronous))
	assert.Equal(t, "wal", mode)
	assert.Equal(t, 2, synchronous, "2 is FULL")
}

func TestBackups(t *testing.T) {
	b := Backups{Dir: filepath.Join(t.TempDir(), "backups")}
	at := time.Date(2026, 12, 2, 1, 34, 12, 0, time.UTC)
	first, err := b.Put("ald-quay-1", "name ald-quay-1\n", at)
	require.NoError(t, err)
	assert.Equal(t, filepath.Join(b.Dir, "ald-quay-1", "2026-12-02T013412Z.cfg"), first.Path)
	assert.Len(t, first.SHA256, 64)
	info, err := os.Stat(first.Path)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm(), "a configuration holds secrets")

	same, err := b.Put("ald-quay-1", "name ald-quay-1\n", at.Add(time.Hour))
	require.NoError(t, err)
	assert.Equal(t, work.Backup{Path: first.Path, SHA256: first.SHA256, Same: true}, same)

	second, err := b.Put("ald-quay-1", "name other\n", at)
	require.NoError(t, err)
	assert.Equal(t, filepath.Join(b.Dir, "ald-quay-1", "2026-12-02T013412Z-2.cfg"), second.Path)
	back, err := b.Put("ald-quay-1", "name ald-quay-1\n", at.Add(2*time.Hour))
	require.NoError(t, err)
	assert.False(t, back.Same, "only the newest is compared: going back is a change, too")

	require.NoError(t, os.WriteFile(filepath.Join(b.Dir, "blocked"), nil, 0o600))
	_, err = b.Put("blocked", "x", at)
	assert.ErrorContains(t, err, "backup of blocked")
}

func TestTranscripts(t *testing.T) {
	dir := t.TempDir()
	tr, err := NewTranscripts(dir)
	require.NoError(t, err)
	d := tr.For("ald-quay-1")
	d.Sent("[x look] ", "tell clock")
	d.Got([]string{"a", "b\nc"})
	d.Note("contact lost")
	assert.Nil(t, tr.Tail("nobody", 3))
	tail := tr.Tail("ald-quay-1", 2)
	require.Len(t, tail, 2)
	assert.True(t, strings.HasSuffix(tail[0], " < b c"), tail[0])
	assert.True(t, strings.HasSuffix(tail[1], " · contact lost"), tail[1])
	for range 3 * tailLines {
		d.Got([]string{"x"})
	}
	assert.LessOrEqual(t, len(tr.Tail("ald-quay-1", 1<<20)), 2*tailLines, "memory is bounded")
	require.NoError(t, tr.Close())
	all, err := ReadTranscript(dir, "ald-quay-1")
	require.NoError(t, err)
	assert.Len(t, all, 4+3*tailLines)
}

func TestHostKeys(t *testing.T) {
	file := filepath.Join(t.TempDir(), "known_hosts")
	key := func() ssh.PublicKey {
		pub, _, err := ed25519.GenerateKey(nil)
		require.NoError(t, err)
		k, err := ssh.NewPublicKey(pub)
		require.NoError(t, err)
		return k
	}
	one, other := key(), key()
	addr := &net.TCPAddr{IP: net.IPv4(192, 0, 2, 11), Port: 22}
	keys, err := OpenHostKeys(file, Remember)
	require.NoError(t, err)
	require.NoError(t, keys.Check("192.0.2.11:22", addr, one), "the first key is remembered")
	require.NoError(t, keys.Check("192.0.2.11:22", addr, one))
	require.ErrorIs(t, keys.Check("192.0.2.11:22", addr, other), ErrKeyChanged)
	assert.Equal(t, []string{ssh.KeyAlgoED25519}, keys.Algorithms("192.0.2.11:22"))
	for _, how := range []Unknown{Strict, Ask, Remember} {
		again, err := OpenHostKeys(file, how)
		require.NoError(t, err)
		require.NoError(t, again.Check("192.0.2.11:22", addr, one))
		require.ErrorIs(t, again.Check("192.0.2.11:22", addr, other), ErrKeyChanged, how)
		assert.Equal(t, []string{ssh.KeyAlgoED25519}, again.Algorithms("192.0.2.11:22"))
		assert.Empty(t, again.Algorithms("192.0.2.99:22"))
	}
}

func TestFirstSight(t *testing.T) {
	file := filepath.Join(t.TempDir(), "known_hosts")
	pub, _, err := ed25519.GenerateKey(nil)
	require.NoError(t, err)
	key, err := ssh.NewPublicKey(pub)
	require.NoError(t, err)
	for _, how := range []Unknown{Strict, Ask} {
		keys, err := OpenHostKeys(file, how)
		require.NoError(t, err)
		var fresh *NewKey
		require.ErrorAs(t, keys.Check("192.0.2.11:2222", &net.TCPAddr{}, key), &fresh)
		assert.Equal(t, ssh.FingerprintSHA256(key), fresh.Fingerprint())
		require.NoError(t, keys.Accept(fresh, false))
		require.NoError(t, keys.Check("192.0.2.11:2222", &net.TCPAddr{}, key), "accepted once")
	}
	keys, err := OpenHostKeys(file, Strict)
	require.NoError(t, err)
	var fresh *NewKey
	require.ErrorAs(t, keys.Check("192.0.2.11:2222", &net.TCPAddr{}, key), &fresh, "once is not for good")
	require.NoError(t, keys.Accept(fresh, true))
	keys, err = OpenHostKeys(file, Strict)
	require.NoError(t, err)
	require.NoError(t, keys.Check("192.0.2.11:2222", &net.TCPAddr{}, key), "remembered")
}

// A key is remembered on a line of its own, also where a person has left the last
// line of the file without its end.
func TestKeysAreRememberedOnTheirOwnLines(t *testing.T) {
	file := filepath.Join(t.TempDir(), "known_hosts")
	require.NoError(t, os.WriteFile(file, []byte("# keys of the quays"), 0o600))
	pub, _, err := ed25519.GenerateKey(nil)
	require.NoError(t, err)
	key, err := ssh.NewPublicKey(pub)
	require.NoError(t, err)
	for _, host := range []string{"192.0.2.11:22", "192.0.2.12:22"} {
		keys, err := OpenHostKeys(file, Remember)
		require.NoError(t, err)
		require.NoError(t, keys.Check(host, &net.TCPAddr{}, key))
	}
	text, err := os.ReadFile(file)
	require.NoError(t, err)
	assert.Equal(t, 3, strings.Count(string(text), "\n"))
	keys, err := OpenHostKeys(file, Strict)
	require.NoError(t, err)
	require.NoError(t, keys.Check("192.0.2.11:22", &net.TCPAddr{}, key))
	require.NoError(t, keys.Check("192.0.2.12:22", &net.TCPAddr{}, key))
}

// Whatever stands in a known_hosts file, a key that is not in it is never taken.
func FuzzKnownHosts(f *testing.F) {
	pub, _, err := ed25519.GenerateKey(nil)
	require.NoError(f, err)
	key, err := ssh.NewPublicKey(pub)
	require.NoError(f, err)
	f.Add("192.0.2.11 ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIJx0\n")
	f.Add("@revoked * ssh-ed25519 AAAA\n|1|AAAA|BBBB ssh-rsa AAAA\n[192.0.2.11]:2222,!x ssh-rsa\n")
	f.Fuzz(func(t *testing.T, text string) {
		file := filepath.Join(t.TempDir(), "known_hosts")
		require.NoError(t, os.WriteFile(file, []byte(text), 0o600))
		keys, err := OpenHostKeys(file, Strict)
		if err != nil {
			return
		}
		require.Error(t, keys.Check("192.0.2.11:22", &net.TCPAddr{}, key))
		_ = keys.Algorithms("192.0.2.11:22")
	})
}

// A journal or a record may be another person's: what it calls a device leads nowhere else.
func TestNamesThatLeadOut(t *testing.T) {
	dir := t.TempDir()
	b := Backups{Dir: filepath.Join(dir, "backups")}
	for _, name := range []string{"../beside", "..", "", "a/b"} {
		_, err := b.Put(name, "x", time.Now())
		assert.ErrorIs(t, err, within.ErrLeadsOut, name)
		_, err = b.Shelf(name)
		assert.ErrorIs(t, err, within.ErrLeadsOut, name)
		assert.ErrorIs(t, b.NotePushed(Shelved{Device: name}, "attic", time.Now()), within.ErrLeadsOut, name)
	}
	tr, err := NewTranscripts(filepath.Join(dir, "transcripts"))
	require.NoError(t, err)
	tr.For("../../beside").Note("hello")
	assert.ErrorIs(t, tr.Kept(), within.ErrLeadsOut)
	assert.ErrorIs(t, tr.Close(), within.ErrLeadsOut)
	_, err = ReadTranscript(dir, "../beside")
	assert.ErrorIs(t, err, within.ErrLeadsOut)
	left, err := os.ReadDir(dir)
	require.NoError(t, err)
	assert.Len(t, left, 1, "the transcripts' directory: %v", left)
}

// What a workspace is called is no pattern: its newest backup is found all the same.
func TestBackupsInADirectoryThatLooksLikeAPattern(t *testing.T) {
	b := Backups{Dir: filepath.Join(t.TempDir(), "nights [old]", "backups")}
	_, err := b.Put("ald-quay-1", "name ald-quay-1\n", time.Now())
	require.NoError(t, err)
	again, err := b.Put("ald-quay-1", "name ald-quay-1\n", time.Now().Add(time.Hour))
	require.NoError(t, err)
	assert.True(t, again.Same)
}
