package shelf

import (
	"context"
	"fmt"

	"metabasis/internal/acts"
	"metabasis/internal/person"
	"metabasis/internal/screen"
	"metabasis/internal/screen/keys"
	"metabasis/internal/screen/page"
)

// Tending is what keeps the shelf in order.
type Tending struct {
	// Verify holds every backup against its checksum.
	Verify func(ctx context.Context) (*acts.Verified, error)
	// Clear finds out what the rule of what to keep clears, and Cleared clears it.
	Clear   func(ctx context.Context) (*acts.Clearing, error)
	Cleared func(*acts.Clearing) error
	// Push pushes what is not there yet to the places off this machine.
	// Push pushes backups off this machine; say is told how far it has come.
	Push func(ctx context.Context, say func(acts.Pushing)) ([]acts.PushedTo, error)
}

// tending are the keys that keep the shelf in order: each is for all of it, whatever is
// marked.
func (v *View) tending() []screen.Key {
	if v.src.Tend.Verify == nil {
		return nil
	}
	return []screen.Key{
		screen.On(keys.Verify, "verify all", v.verify),
		screen.On(keys.Push, "push all", v.push),
		screen.On(keys.Prune, "clear what is old", v.clear),
	}
}

func (v *View) verify() {
	var got *acts.Verified
	v.host.Work("Holding every backup against its checksum", func(ctx context.Context) (err error) {
		got, err = v.src.Tend.Verify(ctx)
		return err
	}, func(err error) {
		switch {
		case err != nil:
			v.host.Say("not verified: " + err.Error())
			return
		case len(got.Wrong) == 0:
			v.host.Say(got.String())
			return
		}
		lines := []string{got.String(), ""}
		for _, wrong := range got.Wrong {
			lines = append(lines, wrong.Error())
		}
		v.host.Open(page.Lines("Backups that are damaged or not there", lines))
	})
}

func (v *View) push() {
	var got []acts.PushedTo
	v.host.Work("Pushing backups off this machine", func(ctx context.Context) (err error) {
		got, err = v.src.Tend.Push(ctx, func(p acts.Pushing) {
			v.host.Then(func() { v.host.Progress(p.Place, p.Done, p.Of) })
		})
		return err
	}, func(err error) {
		v.host.Progress("", 0, 0)
		if err != nil {
			v.host.Say("not pushed: " + err.Error())
			return
		}
		var lines []string
		failed := 0
		for _, p := range got {
			if lines = append(lines, p.String()); p.Error != "" {
				failed++
			}
		}
		if len(got) == 1 && failed == 0 {
			v.host.Say(lines[0])
			return
		}
		title := "Pushed to every place"
		if failed > 0 {
			title = fmt.Sprintf("NOT all is pushed: %d of %d places", failed, len(got))
		}
		v.host.Open(page.Lines(title, lines))
	})
}

// leaveIt is the answer that clears nothing, clearThem the other.
const (
	leaveIt   = "leave it"
	clearThem = "clear them"
)

// clear lists what the rule clears, and clears it when that is confirmed.
func (v *View) clear() {
	var c *acts.Clearing
	v.host.Work("Finding out what is not kept", func(ctx context.Context) (err error) {
		c, err = v.src.Tend.Clear(ctx)
		return err
	}, func(err error) {
		switch {
		case err != nil:
			v.host.Say("nothing is cleared: " + err.Error())
			return
		case c.Empty():
			v.host.Say(c.Sum("to be cleared") + "; kept are " + c.Rule.String())
			return
		}
		v.host.Ask(
			person.Form{Title: "Clear the shelf", Lines: append([]string{c.Sum("to be cleared"), "kept are " + c.Rule.String(), ""}, c.Rows()...),
				Questions: []person.Question{{Text: "They cannot be had back from here. Clear them?", Choices: []person.Choice{
					{Word: leaveIt, Does: "all stay"}, {Word: clearThem, Does: "those listed go from the shelf"},
				}}}},
			func(answers []string) {
				if answers[0] == clearThem {
					v.cleared(c)
				}
			},
		)
	})
}

func (v *View) cleared(c *acts.Clearing) {
	v.host.Work("Clearing the shelf", func(context.Context) error { return v.src.Tend.Cleared(c) }, func(err error) {
		if v.load(); err != nil {
			v.host.Say("NOT all is cleared: " + err.Error())
			return
		}
		v.host.Say(c.Sum("cleared"))
	})
}
