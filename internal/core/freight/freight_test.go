package freight

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"io"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// box is a device with files. It breaks off once so many bytes were written, and alters one.
type box struct {
	files  map[string][]byte
	breaks int64 // -1 is never
	alters int64 // the byte that is another then; -1 is none
	free   int64
	tells  bool
	holes  int64 // how much of what was under way together is missing where it broke off
}

var errBroke = errors.New("the connection ended")

func (b *box) Size(_ context.Context, path string) (int64, bool, error) {
	f, is := b.files[path]
	return int64(len(f)), is, nil
}

func (b *box) Write(_ context.Context, path string, from int64, r io.Reader) error {
	f := b.files[path]
	f = append(f[:min(from, int64(len(f)))], make([]byte, max(0, from-int64(len(f))))...)
	buf := make([]byte, 100)
	for {
		n, err := r.Read(buf)
		for _, c := range buf[:n] {
			if b.breaks == 0 {
				b.breaks = -1
				hole := f[max(0, int64(len(f))-b.holes):]
				clear(hole)
				b.files[path] = f
				return errBroke
			}
			if b.breaks > 0 {
				b.breaks--
			}
			if b.alters == int64(len(f)) {
				b.alters, c = -1, c^1
			}
			f = append(f, c)
		}
		if err == io.EOF {
			b.files[path] = f
			return nil
		}
		if err != nil {
			return err
		}
	}
}

func (b *box) Read(_ context.Context, path string, from int64, w io.Writer) error {
	_, err := w.Write(b.files[path][from:])
	return err
}

func (b *box) Rename(_ context.Context, from, to string) error {
	if _, is := b.files[to]; is {
		return errors.New("it is taken")
	}
	b.files[to] = b.files[from]
	delete(b.files, from)
	return nil
}

func (b *box) Remove(_ context.Context, path string) error { delete(b.files, path); return nil }

func (b *box) Free(context.Context) (int64, bool, error) {
	free := b.free
	for _, f := range b.files {
		free -= int64(len(f))
	}
	return free, b.free > 0, nil
}

func (b *box) Sum(_ context.Context, path string) (string, bool, error) {
	return sumOf(b.files[path]), b.tells, nil
}

func sumOf(data []byte) string {
	sum := sha256.Sum256(data)
	return hex.EncodeToString(sum[:])
}

func jobOf(data []byte) Job {
	return Job{File: File{Name: "x.img", Size: int64(len(data)), SHA256: sumOf(data), Data: bytes.NewReader(data)}, To: "/x.img"}
}

// Whatever breaks off and is altered on the way: a file that bears its name is the one that was carried,
// where the device tells checksums; what is not proven is said to be so; a further run ends what one began,
// and the one after it carries nothing.
func TestAFileArrivesAsItIs(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		data := bytes.Repeat(rapid.SliceOfN(rapid.Byte(), 1, 300).Draw(t, "data"), rapid.IntRange(1, 20000).Draw(t, "times"))
		at := func(name string) int64 { return int64(rapid.IntRange(-1, len(data)).Draw(t, name)) }
		b := &box{files: map[string][]byte{}, breaks: at("breaks"), alters: at("alters"), tells: rapid.Bool().Draw(t, "tells"),
			holes: int64(rapid.IntRange(0, 2<<20).Draw(t, "holes"))}
		altered := b.alters >= 0 && b.alters < int64(len(data))
		j := jobOf(data)
		var r Result
		var err error
		for range 4 {
			if r, err = Carry(t.Context(), b, b, j); err == nil {
				break
			}
			_, named := b.files[j.To]
			assert.False(t, named, "it bears its name: %v", err)
		}
		require.NoError(t, err)
		if b.tells {
			assert.Equal(t, BySum, r.Proof)
			assert.True(t, bytes.Equal(data, b.files[j.To]))
		} else {
			assert.Equal(t, BySize, r.Proof)
			assert.True(t, altered || bytes.Equal(data, b.files[j.To]))
		}
		assert.Len(t, b.files, 1, "nothing else is left there")
		if !b.tells {
			_, err = Carry(t.Context(), b, b, j)
			require.ErrorIs(t, err, ErrAnother, "nobody can tell")
			j.Noted = &Arrival{Size: j.File.Size, SHA256: j.File.SHA256}
		}
		r, err = Carry(t.Context(), b, b, j)
		require.NoError(t, err)
		assert.True(t, r.Already)
		assert.Zero(t, r.Sent)
	})
}

// Another file is not written over unless that was asked for, and nothing is begun without room.
func TestWhatIsNotCarried(t *testing.T) {
	data := []byte("an image of the new software")
	for name, c := range map[string]struct {
		b    *box
		edit func(*Job)
		want error
		text string
	}{
		"another of another size":   {&box{files: map[string][]byte{"/x.img": []byte("old")}, breaks: -1, alters: -1, tells: true}, nil, ErrAnother, "has 3 bytes"},
		"another of the same size":  {&box{files: map[string][]byte{"/x.img": bytes.ToUpper(data)}, breaks: -1, alters: -1, tells: true}, nil, ErrAnother, "another checksum"},
		"one that nobody can tell":  {&box{files: map[string][]byte{"/x.img": bytes.ToUpper(data)}, breaks: -1, alters: -1}, nil, ErrAnother, "does not tell its checksum"},
		"no room":                   {&box{files: map[string][]byte{}, breaks: -1, alters: -1, free: 9}, nil, ErrNoRoom, "28 bytes more are needed, and 9 bytes are free"},
		"altered":                   {&box{files: map[string][]byte{}, breaks: -1, alters: 3, tells: true}, nil, ErrAltered, "what arrived was removed"},
		"another, and written over": {&box{files: map[string][]byte{"/x.img": []byte("old")}, breaks: -1, alters: -1, tells: true}, func(j *Job) { j.Replace = true }, nil, ""},
		"room for the rest":         {&box{files: map[string][]byte{"/x.img.part-" + sumOf(data)[:8]: data[:20]}, breaks: -1, alters: -1, free: 28, tells: true}, nil, nil, ""},
	} {
		j := jobOf(data)
		if c.edit != nil {
			c.edit(&j)
		}
		before := len(c.b.files)
		_, err := Carry(t.Context(), c.b, c.b, j)
		if c.want == nil {
			require.NoError(t, err, name)
			assert.Equal(t, data, c.b.files["/x.img"], name)
			continue
		}
		require.ErrorIs(t, err, c.want, name)
		require.ErrorContains(t, err, c.text, name)
		assert.Len(t, c.b.files, before, "%s: nothing is left there", name)
	}
}

// A limit holds within five in a hundred, for one and for several that share it.
func TestALimitHolds(t *testing.T) {
	for _, limit := range []int64{20_000, 1_000_000, 50_000_000} {
		synctest.Test(t, func(t *testing.T) {
			const readers = 4
			shared, began := NewLimit(limit), time.Now()
			each := limit * 5
			ends := make(chan int64, readers)
			for range readers {
				go func() {
					r := Through(t.Context(), io.LimitReader(nothing{}, each), nil, shared)
					n, err := io.Copy(io.Discard, r)
					assert.NoError(t, err)
					ends <- n
				}()
			}
			sum := int64(0)
			for range readers {
				sum += <-ends
			}
			assert.InEpsilon(t, float64(limit), float64(sum)/time.Since(began).Seconds(), 0.05)
		})
	}
	r := bytes.NewReader(nil)
	assert.Equal(t, io.Reader(r), Through(t.Context(), r, nil, NewLimit(0)), "as fast as it goes")
}

type nothing struct{}

func (nothing) Read(p []byte) (int, error) { clear(p); return len(p), nil }

// When it will be there is told from how it went lately: nothing before anything was seen, and in nine
// cases of ten no earlier than likely.
func TestWhenItWillBeThere(t *testing.T) {
	var p Pace
	_, _, known := p.Left(100)
	assert.False(t, known)
	now := time.Unix(0, 0)
	done := int64(0)
	for i := range 200 {
		p.Saw(now, done)
		now = now.Add(time.Second)
		if done += 1000; i%5 == 0 {
			done -= 900 // a slow second
		}
	}
	likely, late, known := p.Left(100_000)
	assert.True(t, known)
	assert.Equal(t, 100*time.Second, likely)
	assert.Greater(t, late, 5*likely)
	p.Saw(now, 5) // begun anew: what was before does not count against it
	assert.Equal(t, float64(1000), p.Now())
}

func TestBytesAreSaidAsPeopleReadThem(t *testing.T) {
	for n, want := range map[int64]string{0: "0 bytes", 999: "999 bytes", 1000: "1.0 KB", 30_000_000: "30.0 MB", 2_500_000_000: "2.5 GB"} {
		assert.Equal(t, want, Bytes(n))
	}
}
