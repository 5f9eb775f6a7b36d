package netconf

import (
	"context"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metabasis/internal/core/driver"
	"metabasis/internal/device/profile"
	"metabasis/internal/device/ssh"
	"metabasis/internal/sim"
	"metabasis/profiles"
)

// quiet keeps nothing.
type quiet struct{}

func (quiet) Sent(string, string) {}
func (quiet) Got([]string)        {}
func (quiet) Note(string)         {}

// quay is one simulated device, and how sessions with it begin.
type quay struct {
	t     *testing.T
	fleet *sim.Fleet
	p     *profile.Profile
}

// atQuay does something with a device whose model does not tell how long a commit is still
// to be confirmed, in virtual time.
func atQuay(t *testing.T, spec sim.Spec, do func(q *quay)) {
	set, err := profiles.Shipped()
	require.NoError(t, err)
	p := *set["skerry"]
	p.Netconf.Left = ""
	synctest.Test(t, func(t *testing.T) {
		spec.Name, spec.Platform, spec.Address = "q-1", "skerry", "192.0.2.1"
		f, err := sim.New(sim.Scenario{Boot: time.Second, Settle: time.Second, Logins: map[string]string{"crew": "harbour-lamp"}, Devices: []sim.Spec{spec},
			Config: "name {{.Name}}\nlog host 198.51.100.9\nmanage from any\nport 1\n  trunk\n"})
		require.NoError(t, err)
		defer f.Close()
		do(&quay{t, f, &p})
	})
}

func (q *quay) session(mem *Memory) *Session {
	hop := ssh.Hop{Name: "q-1", Addr: "192.0.2.1:830", Login: ssh.Login{User: "crew", Password: "harbour-lamp"}, HostKeys: q.fleet.HostKeys(), Within: 10 * time.Second}
	rw, err := ssh.OpenSubsystem(q.t.Context(), q.fleet.Dial, hop, nil, "netconf")
	require.NoError(q.t, err)
	s, err := Start(q.t.Context(), q.p, rw, profile.Options{User: "crew", Log: quiet{}}, mem)
	require.NoError(q.t, err)
	return s
}

func (q *quay) runs() string { return q.fleet.Device("q-1").Running() }

const report = "set /skerry:core/report[.='198.51.100.14']"

// What is on trial is told by what is refused meanwhile: to whoever asks, and for as long as
// we have asked for, where it is ours.
func TestWhatIsPendingIsToldByWhatIsRefused(t *testing.T) {
	atQuay(t, sim.Spec{}, func(q *quay) {
		ctx := context.Background()
		ours := &Memory{Name: "ours"}
		s, other := q.session(ours), q.session(&Memory{Name: "theirs"})
		defer s.Close()
		defer other.Close()
		_, pending, err := s.Pending(ctx)
		require.NoError(t, err)
		assert.False(t, pending)

		require.NoError(t, s.Edit(ctx))
		require.NoError(t, s.Line(ctx, report))
		require.NoError(t, s.Apply(ctx, 90*time.Second))
		assert.Contains(t, q.runs(), "198.51.100.14")
		time.Sleep(30 * time.Second)
		left, pending, err := s.Pending(ctx)
		require.NoError(t, err)
		assert.True(t, pending)
		assert.Equal(t, 60*time.Second, left)
		left, pending, err = other.Pending(ctx)
		require.NoError(t, err)
		assert.True(t, pending)
		assert.Negative(t, left, "nobody has told them until when")
		assert.Error(t, other.TakeBack(ctx), "it is not theirs")
		assert.Error(t, other.Disarm(ctx), "nor theirs to confirm")

		again := q.session(ours) // from another session of ours
		defer again.Close()
		require.NoError(t, again.TakeBack(ctx))
		assert.NotContains(t, q.runs(), "198.51.100.14")
		_, pending, err = s.Pending(ctx)
		require.NoError(t, err)
		assert.False(t, pending)

		require.NoError(t, other.ask(ctx, "lock running", "<lock><target><running/></target></lock>"))
		_, _, err = s.Pending(ctx)
		var odd *driver.Unclear
		require.ErrorAs(t, err, &odd, "that somebody has it locked proves nothing")
		assert.Contains(t, odd.Got, "what runs cannot be locked")
	})
}

// More time for a trial does not apply what is staged, and what is staged stays so.
func TestAnExtensionAppliesNothing(t *testing.T) {
	atQuay(t, sim.Spec{}, func(q *quay) {
		ctx := context.Background()
		s := q.session(&Memory{Name: "ours"})
		defer s.Close()
		require.NoError(t, s.Edit(ctx))
		require.NoError(t, s.Line(ctx, report))
		require.NoError(t, s.Apply(ctx, time.Minute))
		require.NoError(t, s.Edit(ctx))
		require.NoError(t, s.Line(ctx, "<core xmlns=\"https://skerry.example/yang/skerry\">"))
		require.NoError(t, s.Line(ctx, "  <lan><number>310</number><title>gates</title></lan>"))
		require.NoError(t, s.Line(ctx, "</core>"))
		require.NoError(t, s.Arm(ctx, 10*time.Minute))
		assert.NotContains(t, q.runs(), "lan 310", "it was not applied")
		left, pending, err := s.Pending(ctx)
		require.NoError(t, err)
		assert.True(t, pending)
		assert.Equal(t, 10*time.Minute, left)
		require.NoError(t, s.Apply(ctx, 5*time.Minute))
		assert.Contains(t, q.runs(), "lan 310\n  title gates\n", "it was staged still")
		require.NoError(t, s.Disarm(ctx))
		time.Sleep(time.Hour)
		assert.Contains(t, q.runs(), "lan 310")
		assert.NotContains(t, q.fleet.Device("q-1").Saved(), "lan 310")
		for which, has := range map[driver.Which]bool{driver.Running: true, driver.Saved: false} {
			text, err := s.Config(ctx, which)
			require.NoError(t, err)
			assert.Equal(t, has, strings.Contains(text, "/skerry:core/lan[number='310']/title = gates\n"), which)
		}
		require.NoError(t, s.Save(ctx))
		assert.Contains(t, q.fleet.Device("q-1").Saved(), "lan 310")
		assert.False(t, q.fleet.Device("q-1").Locked())
	})
}

// What is not sound is refused by the check, before anything is committed; a line that is none
// is not sent; what is not there is not read.
func TestWhatIsRefused(t *testing.T) {
	atQuay(t, sim.Spec{}, func(q *quay) {
		ctx := context.Background()
		s := q.session(&Memory{Name: "ours"})
		defer s.Close()
		require.NoError(t, s.Edit(ctx))
		require.NoError(t, s.Line(ctx, "set /ietf-interfaces:interfaces/interface[name='port3']/skerry:carries = 999"))
		err := s.Apply(ctx, time.Minute)
		assert.ErrorContains(t, err, "its own check")
		assert.ErrorContains(t, err, "there is no lan 999 (data-missing) at ")
		for _, line := range []string{"carries 999", "set /skerry:core/boat[n='1'] = 1", "<a></b>"} {
			assert.ErrorContains(t, s.Line(ctx, line), "nothing was sent", line)
		}
		assert.ErrorContains(t, s.Line(ctx, "delete /skerry:core/lan[number='7']"), "data-missing")
		_, err = s.Read(ctx, "nothing")
		assert.ErrorContains(t, err, "no such reader")
		rows, err := s.Read(ctx, "ports")
		require.NoError(t, err)
		assert.Len(t, rows, 12)
		_, err = s.Ask(ctx, "edit-config", true)
		assert.ErrorContains(t, err, "only get PATH is asked")
		lines, err := s.Ask(ctx, "get /ietf-system:system", false)
		require.NoError(t, err)
		assert.Equal(t, []string{"/ietf-system:system/hostname = q-1"}, lines)
	})
}

// What a session that was lost may have left staged is dropped; where nothing can be, nothing
// is done.
func TestWhatALostSessionLeft(t *testing.T) {
	atQuay(t, sim.Spec{}, func(q *quay) {
		ctx := context.Background()
		ours := &Memory{Name: "ours"}
		lost := q.session(ours)
		require.NoError(t, lost.Drop(ctx))
		require.NoError(t, lost.Edit(ctx))
		require.NoError(t, lost.Line(ctx, report))
		require.NoError(t, lost.c.rw.Close())
		synctest.Wait()
		s := q.session(ours)
		defer s.Close()
		require.True(t, ours.hasEdited())
		require.NoError(t, s.Drop(ctx))
		assert.False(t, ours.hasEdited())
		require.NoError(t, s.Edit(ctx))
		require.NoError(t, s.Apply(ctx, time.Minute))
		assert.NotContains(t, q.runs(), "198.51.100.14")
	})
}

// What somebody else has in the candidate is neither applied with ours nor dropped.
func TestSomebodyElsesCandidate(t *testing.T) {
	atQuay(t, sim.Spec{}, func(q *quay) {
		ctx := context.Background()
		s, other := q.session(&Memory{Name: "ours"}), q.session(&Memory{Name: "theirs"})
		defer s.Close()
		require.NoError(t, s.Edit(ctx))
		require.NoError(t, s.Line(ctx, report))
		require.NoError(t, s.Apply(ctx, time.Hour))
		edit := "<edit-config><target><candidate/></target><config><system xmlns=\"urn:ietf:params:xml:ns:yang:ietf-system\"><hostname>theirs</hostname></system></config></edit-config>"
		require.NoError(t, other.ask(ctx, "edit", edit)) // without a lock
		rows, err := s.Read(ctx, "drafts")
		require.NoError(t, err)
		assert.Len(t, rows, 1)
		assert.Error(t, s.Disarm(ctx), "to confirm would apply theirs")
		assert.Error(t, s.Arm(ctx, time.Hour), "so would more time")
		assert.Error(t, s.Edit(ctx))
		require.NoError(t, s.Drop(ctx), "nothing of ours stands there")
		assert.NotContains(t, q.runs(), "theirs")
		assert.True(t, q.fleet.Device("q-1").Locked(), "theirs still does")
		require.NoError(t, other.Close())
		require.NoError(t, s.ask(ctx, "discard", "<discard-changes/>"))
		require.NoError(t, s.Disarm(ctx))
		assert.Contains(t, q.runs(), "198.51.100.14")
	})
}

// A commit that says ok and does nothing is no commit; XML that is not ended is not applied;
// what was staged is dropped with the session.
func TestWhatIsNotApplied(t *testing.T) {
	atQuay(t, sim.Spec{Faults: []sim.Fault{{Kind: sim.QuietApply, Times: 1}}}, func(q *quay) {
		ctx := context.Background()
		ours := &Memory{Name: "ours"}
		s := q.session(ours)
		require.NoError(t, s.Edit(ctx))
		require.NoError(t, s.Line(ctx, "<core xmlns='https://skerry.example/yang/skerry'>"))
		assert.ErrorContains(t, s.Apply(ctx, time.Minute), "an XML element is begun and not ended")
		require.NoError(t, s.Line(ctx, report))
		assert.ErrorContains(t, s.Apply(ctx, time.Minute), "what stood in the candidate does not run")
		require.NoError(t, s.Edit(ctx))
		require.NoError(t, s.Line(ctx, report))
		assert.True(t, q.fleet.Device("q-1").Locked())
		require.NoError(t, s.Close())
		assert.False(t, q.fleet.Device("q-1").Locked())
		assert.NotContains(t, q.runs(), "198.51.100.14")

		s = q.session(ours)
		defer s.Close()
		require.NoError(t, s.Edit(ctx))
		require.NoError(t, s.Line(ctx, report))
		require.NoError(t, s.Drop(ctx))
		assert.False(t, q.fleet.Device("q-1").Locked())
		text, err := s.Config(ctx, driver.Saved)
		require.NoError(t, err)
		require.NoError(t, s.Restore(ctx, text+"/skerry:core/report[.='198.51.100.77']\n"))
		require.NoError(t, s.Apply(ctx, time.Minute))
		assert.Contains(t, q.runs(), "198.51.100.77")
		assert.ErrorContains(t, s.Restore(ctx, "quay\n"), "the backup cannot be read: line 1")
	})
}
