package lines

import (
	"context"
	"errors"
	"time"
)

// Close ends the session the way the device wants it.
func (s *Session) Close() error {
	select {
	case <-s.quit:
		return nil
	default:
	}
	if s.opt.Gently {
		s.goodbye()
	} else if quit := s.quitting(); quit != "" {
		_ = s.writeWithin(quit+s.enterKey, farewell)
	}
	close(s.quit)
	err := s.rw.Close()
	for range s.chunks { // until the reader has ended
	}
	return err
}

// quitting is the command that ends the session from here; "" when there is
// none.
func (s *Session) quitting() string {
	m, ok := s.p.Modes[s.mode]
	if !ok || s.broken != nil || s.mode == s.p.Config.Edit && m.From != "" {
		return ""
	}
	if m.Quit == "" {
		m = s.p.Modes[s.p.Start]
	}
	return m.Quit
}

// farewell bounds how long ending a session gently may take.
const farewell = 3 * time.Second

// goodbye leaves the session so that the device gives it up: from its first
// mode, by its own command, and waiting until it closes the connection. Nothing
// is sent where no prompt is known to stand.
func (s *Session) goodbye() {
	ctx, cancel := context.WithTimeout(context.Background(), farewell)
	defer cancel()
	if s.broken != nil && s.mode != "" && errors.Is(s.broken, context.Canceled) { // we gave up, not the device
		s.broken = nil
		if s.wait(ctx, nil, nil) != nil {
			return
		}
	}
	if s.broken != nil || s.mode == "" || s.enter(ctx, s.p.Start) != nil {
		return
	}
	quit := s.quitting()
	if quit == "" {
		return
	}
	s.log.Sent(s.Mask(s.prompt), quit)
	if s.write(quit+s.enterKey) != nil {
		return
	}
	for {
		select {
		case _, open := <-s.chunks:
			if !open {
				return
			}
		case <-ctx.Done():
			return
		}
	}
}
