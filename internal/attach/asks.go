package attach

import (
	"context"
	"errors"
	"slices"

	"metabasis/internal/person"
)

// What the night's process has to ask, such as a code for a host on the way, it asks whoever has the
// wheel, and waits where nobody has it. Who takes the wheel takes what is asked with it.

// Ask is something that is asked of whoever has the wheel.
type Ask struct {
	N int64 `json:"n"`
	// For is the request of the viewer for which it is asked; 0 is none: then it is asked of whoever
	// has the wheel.
	For int64 `json:"for,omitempty"`
	// Form is what is asked; nil withdraws it: it was answered, or is not wanted any more.
	Form *person.Form `json:"form,omitempty"`
	// Answers is what a viewer says to it; nil is that it gives none.
	Answers []string `json:"answers,omitempty"`
}

// asked is something that waits for an answer.
type asked struct {
	n      int64
	form   person.Form
	of     *viewer  // who was asked; nil is nobody
	only   *request // for which it is asked, of its viewer alone; nil is none
	answer chan []string
}

// request is one of a viewer for which it is asked something.
type request struct {
	n  int64
	by *viewer
}

// requested marks the context of a request.
type requested struct{}

// Ask implements [person.Person].
func (s *Server) Ask(ctx context.Context, f person.Form) ([]string, error) {
	lines := f.Lines
	for try := 1; ; try++ {
		answers, err := s.askOnce(ctx, f)
		if err != nil {
			return nil, err
		}
		why := refusal(f, answers)
		if why == nil || try == askedAgain {
			return answers, why
		}
		f.Lines = append(slices.Clone(lines), why.Error())
	}
}

// askedAgain is how often a form may be answered with what cannot be.
const askedAgain = 3

// refusal says why answers to a form cannot be.
func refusal(f person.Form, answers []string) error {
	for i := range f.Questions {
		if err := f.Questions[i].Refuses(answers[i]); err != nil {
			return err
		}
	}
	return nil
}

func (s *Server) askOnce(ctx context.Context, f person.Form) ([]string, error) {
	s.mu.Lock()
	s.asks++
	a := &asked{n: s.asks, form: f, answer: make(chan []string, 1)}
	a.only, _ = ctx.Value(requested{}).(*request)
	s.asked = append(s.asked, a)
	s.putAsks()
	s.mu.Unlock()
	defer func() {
		s.mu.Lock()
		defer s.mu.Unlock()
		s.asked = slices.DeleteFunc(s.asked, func(o *asked) bool { return o == a })
		if a.of != nil {
			a.of.say = append(a.of.say, Message{Ask: &Ask{N: a.n}})
			s.wake()
		}
	}()
	select {
	case answers := <-a.answer:
		if len(answers) != len(f.Questions) {
			return nil, person.ErrLeft
		}
		return answers, nil
	case <-ctx.Done():
		return nil, ctx.Err()
	case <-s.closed:
		return nil, errors.New("the night is over, and nobody has answered")
	}
}

// putAsks asks whoever has the wheel what is asked, and nobody else. The caller holds s.mu.
func (s *Server) putAsks() {
	for _, a := range s.asked {
		to, wanted := s.wheel, int64(0)
		if a.only != nil {
			to, wanted = a.only.by, a.only.n
		}
		if a.of == to {
			continue
		}
		if a.of != nil {
			a.of.say = append(a.of.say, Message{Ask: &Ask{N: a.n}})
		}
		if a.of = to; to != nil {
			to.say = append(to.say, Message{Ask: &Ask{N: a.n, For: wanted, Form: &a.form}})
		}
	}
	s.wake()
}

// answered takes what a viewer says to what it was asked.
func (s *Server) answered(v *viewer, m *Ask) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, a := range s.asked {
		if a.n == m.N && a.of == v {
			select {
			case a.answer <- m.Answers:
			default: // it was answered already
			}
		}
	}
}

// ask has the person here answer what the night's process asks, until that is withdrawn. The caller
// holds k.mu.
func (k *Client) ask(live context.Context, m *Ask) {
	if cancel := k.asks[m.N]; cancel != nil {
		cancel()
		delete(k.asks, m.N)
	}
	if m.Form == nil {
		return
	}
	if login := k.logins[m.For]; m.For != 0 && login != nil { // the person waits for it
		k.answer(login, m) //nolint:contextcheck // what is asked for a request ends with that
		return
	}
	k.answer(live, m)
}

// answer has the person answer, as long as ctx lives. The caller holds k.mu.
func (k *Client) answer(ctx context.Context, m *Ask) {
	ctx, cancel := context.WithCancel(ctx)
	k.asks[m.N] = cancel
	go func() {
		var answers []string
		err := person.ErrNobody
		if k.person != nil {
			answers, err = k.person.Ask(ctx, *m.Form)
		}
		if err != nil {
			answers = nil
		}
		if ctx.Err() == nil || m.For != 0 {
			_ = k.send(Message{Ask: &Ask{N: m.N, Answers: answers}}) // one that is gone asks nothing more
		}
		k.mu.Lock()
		defer k.mu.Unlock()
		delete(k.asks, m.N)
		cancel()
	}()
}

// Login has the login of a device typed anew: the night's process asks for it.
func (k *Client) Login(ctx context.Context, device string) error {
	m, err := k.request(ctx, func(n int64) Message {
		k.mu.Lock()
		k.logins[n] = ctx
		k.mu.Unlock()
		return Message{Login: &Login{N: n, Device: device}}
	})
	k.mu.Lock()
	for n, of := range k.logins {
		if of == ctx {
			delete(k.logins, n)
		}
	}
	k.mu.Unlock()
	if err == nil && m.Done.Error != "" {
		err = errors.New(m.Done.Error)
	}
	return err
}
