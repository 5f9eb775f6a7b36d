package screen

import (
	"time"

	"charm.land/bubbles/v2/key"

	"metabasis/internal/person"
	"metabasis/internal/screen/ink"
)

// View is one thing to look at. See the package's documentation.
type View interface {
	// Name is what it is called, in a few words.
	Name() string
	// Rows draws it: at most f.Height rows, each at most f.Cells wide.
	Rows(f Frame) []ink.Row
	// Keys are those that do something now, the most wanted first.
	Keys() []Key
}

// Frame is the space a view is drawn into, and when.
type Frame struct {
	Now    time.Time
	Cells  int
	Height int
	// Painter is for components that draw themselves.
	Painter *ink.Painter
}

// Key is a key of the table in package keys, and what it does in a view.
type Key struct {
	key.Binding
	// Does says in a word or two what it does here; "" leaves it out of the line of
	// keys, and only ? shows it.
	Does string
	// Do does it. Pressed is the key that was pressed, where there are several.
	Do func(pressed string)
}

// Binding is a key of the table.
type Binding = key.Binding

// On makes a key.
func On(b key.Binding, does string, do func()) Key {
	return Key{Binding: b, Does: does, Do: func(string) { do() }}
}

// Opener is a view that is told its host when it is opened.
type Opener interface{ Opened(h *Host) }

// Closer is a view that has something to close. Closed is called behind, once the
// view was left and its work has ended; an error is said.
type Closer interface{ Closed() error }

// Pointed is a view that takes a mouse. A click never does more than to choose.
type Pointed interface {
	// Click is a click on a cell of what the view has drawn.
	Click(x, y int)
	// Wheel scrolls by rows, up where they are negative.
	Wheel(rows int)
}

// OfDevices is a view with a device under its cursor.
type OfDevices interface {
	// DeviceHere is the name of the device; "" where there is none.
	DeviceHere() string
}

// Backer is a view that is told when it is about to be left, and in which a question
// may stand that is left first.
type Backer interface {
	// Back leaves the question; it is false when there is none, and the view is left.
	Back() bool
}

// Returner is a view that is told when it is come back to.
type Returner interface{ Returned() }

// Standing is what goes on whatever is looked at: a night.
type Standing interface {
	// Head draws what stands on top of every view. Its last row says what needs
	// somebody.
	Head(f Frame) []ink.Row
	// Title is the window's title.
	Title() string
	// View is the view of it.
	View() View
	// Leads says in a word what [Standing.Decide] leads to: a decision, or the
	// night; "" when that is what is looked at.
	Leads() string
	// Waits tells whether something waits for a decision.
	Waits() bool
	// Running tells whether it goes on now.
	Running() bool
	// EndsHere tells whether it ends with this process.
	EndsHere() bool
	// Decide opens what waits for a decision, if anything does; Abort what an abort
	// means. Its view is on top.
	Decide()
	Abort()
	// Leaving asks what leaving means, while it runs. An answer that is not the first
	// choice leaves.
	Leaving() person.Form
	// Plain is what a person must know when nothing can be drawn.
	Plain() []string
}
