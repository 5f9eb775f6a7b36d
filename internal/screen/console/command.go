package console

import (
	"context"
	"io"
	"os"
)

// Command works a device by hand while the screen waits. It is a [tea.ExecCommand].
type Command struct {
	Ctx   context.Context
	Title string
	// Needs is what needs the person meanwhile; nil for nothing.
	Needs func() string
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
	needs := c.Needs
	if needs == nil {
		needs = func() string { return "" }
	}
	return Run(c.Ctx, in, c.out, c.Title, needs, func(ctx context.Context) (Session, error) {
		columns, rows := Size(in)
		return c.Open(ctx, columns, rows-1)
	})
}
