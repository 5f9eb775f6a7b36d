package acts

import (
	"context"
	"errors"
	"fmt"

	"metabasis/internal/core/fleet"
	"metabasis/internal/person"
	"metabasis/internal/workspace"
)

// retype has a login typed anew: its user's name and its secrets, each left as it is where
// nothing is typed. A secret that was refused is never sent again by itself.
func (d *Desk) retype(ctx context.Context, a *workspace.Access, login string) error {
	switch {
	case a == nil:
		return errors.New("nothing was made ready to be reached yet")
	case d.Person == nil:
		return person.ErrNobody
	}
	user, parts := a.Parts(login)
	form := person.Form{Title: "Login " + login + ", typed anew", Lines: []string{"What is left empty stays as it is. A secret that was refused is not sent again by itself."},
		Questions: []person.Question{{Text: "user", Usual: user}}}
	for _, part := range parts {
		form.Questions = append(form.Questions, person.Question{Text: fmt.Sprintf("%s of login %s", part, login), Secret: true})
	}
	answers, err := d.Person.Ask(ctx, form)
	if err != nil {
		return err
	}
	t := workspace.Typed{User: answers[0], Parts: map[string]string{}}
	typed := answers[0] != "" && answers[0] != user
	for i, part := range parts {
		t.Parts[part] = answers[i+1]
		typed = typed || answers[i+1] != ""
	}
	if !typed {
		return errors.New("nothing was typed: the login stays as it is")
	}
	a.Retype(login, t, d.finder())
	return nil
}

// Login has the login of a device typed anew.
func (e *Evening) Login(ctx context.Context, d fleet.Device) error {
	name, _ := e.LoginOf(d)
	return e.retype(ctx, e.access, name)
}

// Login has the login of a device of the night typed anew, also while it runs: what is
// connected to from then on is logged in to with it.
func (n *Tonight) Login(ctx context.Context, device string) error {
	name, _ := n.desk.LoginOf(n.device(device), n.access.Config)
	return n.desk.retype(ctx, n.access, name)
}
