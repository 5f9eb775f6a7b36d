package console

import (
	"context"
	"io"
	"os"

	"metabasis/internal/person"
	"metabasis/internal/screen"
)

// Command works a device by hand while the screen waits. It is a [tea.ExecCommand].
type Command struct {
	Ctx   context.Context
	Title string
	// Needs is what needs the person meanwhile; nil for nothing.
	Needs func() string
	// Guard says what takes back what is done, and when; nil where nothing does.
	Guard func() string
	// Never tells whether a line is one that the device's profile never has sent: it wants a reason,
	// of so many bytes at least. Nil is none.
	Never       func(line string) bool
	LeastReason int
	// Open opens the device in a window of that size.
	Open func(ctx context.Context, columns, rows int) (Session, error)

	in  io.Reader
	out io.Writer
}

// SetStdin implements [tea.ExecCommand].
func (c *Command) SetStdin(r io.Reader) { c.in = r }

// SetStdout implements [tea.ExecCommand].
func (c *Command) SetStdout(w io.Writer) { c.out = w }

// SetStderr implements [tea.ExecCommand].
func (c *Command) SetStderr(io.Writer) {}

// Title names the console of a device.
func Title(device string, clearText bool) string {
	if clearText {
		return "console of " + device + " over Telnet, CLEAR TEXT"
	}
	return "console of " + device + " over SSH"
}

// Run implements [tea.ExecCommand].
func (c *Command) Run() error {
	in, ok := c.in.(*os.File)
	if !ok {
		in = os.Stdin
	}
	nothing := func() string { return "" }
	if c.Needs == nil {
		c.Needs = nothing
	}
	if c.Guard == nil {
		c.Guard = nothing
	}
	return c.run(c.Ctx, in, c.out, func(ctx context.Context) (Session, error) {
		columns, rows := Size(in)
		return c.Open(ctx, columns, rows-1)
	})
}

// Work works a device by hand, while the screen waits. It asks first: what is typed from
// then on goes to the device. Guarded opens it with its way back armed; nil where that cannot be.
func Work(h *screen.Host, device string, c *Command, guarded func()) {
	choices := []person.Choice{{Word: "no", Does: "stay here"}, {Word: "yes", Does: "work the device by hand; nothing takes back what you do"}}
	if guarded != nil {
		choices = append(choices, person.Choice{Word: "guarded", Does: "back it up and arm its way back first; what you did is shown at the end, and kept or taken back"})
	}
	h.Ask(person.Form{
		Title:     c.Title,
		Lines:     []string{"What you type goes to " + device + ", until Ctrl-G."},
		Questions: []person.Question{{Text: "Open it?", Choices: choices}},
	},
		func(answers []string) {
			switch answers[0] {
			case "guarded":
				guarded()
				return
			case "no":
				return
			}
			h.Exec(c, func(err error) {
				if err != nil {
					h.Say("the console: " + err.Error())
				}
			})
		})
}
