package lines

import (
	"context"
	"io"
	"strings"
	"sync"

	"metabasis/internal/core/reach"
	"metabasis/internal/device/profile"
)

// Raw is a session that a person works by hand. What the device prints is
// recorded; what the person types is not, since it may be a password, but what
// the device echoes of it is.
type Raw struct {
	s       *Session
	pending []byte
	rec     printed
	reading sync.Mutex    // held while Read is
	left    chan struct{} // closed when nobody reads any more
	offered offered
}

// StartRaw takes over a byte stream for a person. Where the device asks for the
// login in the session, that is answered first.
func StartRaw(ctx context.Context, p *profile.Profile, rw io.ReadWriteCloser, opt profile.Options) (*Raw, error) {
	s := newSession(p, rw, opt)
	r := &Raw{s: s, left: make(chan struct{})}
	if opt.Dialogue {
		s.at(reach.Login)
		err := s.wait(ctx, p.LoginAnswers(opt), nil)
		if f := s.denial(err); f != nil {
			_ = s.Close()
			return nil, f
		}
		if err != nil {
			_ = s.Close()
			return nil, s.failure(reach.Prompt, "logged in, then "+err.Error(), "see whether the prompt in its profile fits", err)
		}
		s.at(reach.Prompt)
		r.pending = []byte(strings.Join(s.out.lines, "\r\n") + "\r\n" + string(s.out.cur))
		s.out.reset()
	}
	s.log.Note("console opened: a person works by hand from here")
	return r, nil
}

// Recorded is nil as long as what is said is kept, and says why it is not.
func (r *Raw) Recorded() error {
	if kept, tells := r.s.log.(interface{ Kept() error }); tells {
		return kept.Kept()
	}
	return nil
}

// Read implements [io.Reader].
func (r *Raw) Read(b []byte) (int, error) {
	r.reading.Lock()
	defer r.reading.Unlock()
	if len(r.pending) == 0 {
		select {
		case chunk, ok := <-r.s.chunks:
			if !ok {
				return 0, orEOF(r.s.readErr)
			}
			r.pending = chunk
		case <-r.left:
			return 0, io.EOF
		}
	}
	n := copy(b, r.pending)
	r.record(r.pending[:n], false)
	r.pending = r.pending[n:]
	return n, nil
}

// record keeps the lines that are complete; at the end, the last one too.
func (r *Raw) record(b []byte, end bool) {
	for _, c := range b {
		r.rec.put(c)
	}
	if end && len(r.rec.cur) > 0 {
		r.rec.put('\n')
	}
	if len(r.rec.lines) > 0 {
		r.s.log.Got(r.s.MaskEach(r.rec.lines))
		r.rec.lines = nil
	}
	if len(r.rec.cur) > 0 && !end {
		r.standing(clean(r.rec.cur))
	}
}

// Write implements [io.Writer].
func (r *Raw) Write(b []byte) (int, error) {
	return len(b), r.s.write(string(b))
}

// Note writes something into the transcript.
func (r *Raw) Note(text string) error {
	r.s.log.Note(text)
	return r.Recorded()
}

// Resize tells the device that the terminal has another size now.
func (r *Raw) Resize(columns, rows int) error {
	if s, ok := r.s.rw.(interface{ Resize(columns, rows int) error }); ok {
		return s.Resize(columns, rows)
	}
	return nil
}

// Close ends the session. A device that must be left properly is asked for its
// prompt once more, and then left from there.
func (r *Raw) Close() error {
	close(r.left)
	defer r.offered.over()
	r.reading.Lock() // a Read that is out has ended
	defer r.reading.Unlock()
	r.record(nil, true)
	r.s.log.Note("console closed")
	if r.s.opt.Gently {
		ctx, cancel := context.WithTimeout(context.Background(), farewell)
		defer cancel()
		r.s.out.reset()
		r.s.prompt, r.s.mode = "", ""
		if r.s.write(r.s.enterKey) == nil {
			_ = r.s.wait(ctx, nil, nil)
		}
	}
	return r.s.Close()
}
