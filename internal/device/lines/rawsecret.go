package lines

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"sync"
	"time"

	"metabasis/internal/core/driver"
	"metabasis/internal/device/profile"
)

// Who works a device by hand need not know the secrets that we have: where the device asks
// for that of a mode, the console offers to send it, and sends it when the person says so.

// offered is the secret that is asked for, and what became of one that was sent.
type offered struct {
	mu     sync.Mutex
	mode   string         // it leads to
	answer profile.Answer // to the question that stands there; none where Secret is ""
	tried  map[string]bool
	done   func(error) // tells what became of the one that was sent
}

// standing looks at the line that stands there without an end.
func (r *Raw) standing(cur string) {
	o := &r.offered
	o.mu.Lock()
	defer o.mu.Unlock()
	if o.done != nil {
		if mode, _, _ := r.s.p.PromptOf(cur); mode != "" {
			var err error
			if mode != o.mode {
				err = driver.ErrDenied
			}
			o.done(err)
			o.done = nil
		}
	}
	o.answer = profile.Answer{}
	for _, name := range slices.Sorted(maps.Keys(r.s.p.Modes)) {
		for _, a := range r.s.p.Modes[name].Enter.Answers {
			if v, known := r.s.Secret(a.Secret); a.Secret != "" && a.Question.Matches(cur) && known && v != "" && !o.tried[name] {
				o.mode, o.answer = name, a
				return
			}
		}
	}
}

// Offer names the secret that the device asks for and that we have; "" for none.
func (r *Raw) Offer() string {
	r.offered.mu.Lock()
	defer r.offered.mu.Unlock()
	return r.offered.answer.Secret
}

// Give sends the secret that is offered, once in a console: one that was wrong would be
// counted by the device. One that was refused elsewhere is not sent.
func (r *Raw) Give() error {
	o := &r.offered
	o.mu.Lock()
	defer o.mu.Unlock()
	name := o.answer.Secret
	if name == "" {
		return nil
	}
	done := func(error) {}
	if r.s.opt.Try != nil {
		ctx, cancel := context.WithTimeout(context.Background(), time.Second)
		defer cancel()
		var err error
		if done, err = r.s.opt.Try(ctx, name); err != nil {
			return fmt.Errorf("the secret %s is not sent: %w", name, err)
		}
	}
	if o.tried == nil {
		o.tried = map[string]bool{}
	}
	o.tried[o.mode], o.answer = true, profile.Answer{}
	secret, _ := r.s.Secret(name)
	if err := r.s.write(secret + r.s.enterKey); err != nil {
		done(err)
		return err
	}
	r.s.log.Note("the secret " + name + " was sent, as the person asked")
	o.done = done
	return nil
}

// over tells that nothing more will be known of a secret that was sent.
func (o *offered) over() {
	o.mu.Lock()
	defer o.mu.Unlock()
	if o.done != nil {
		o.done(errors.New("the console was closed before it was answered"))
		o.done = nil
	}
}
