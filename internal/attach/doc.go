// Package attach lets a night that runs in one process be seen, and decided on, from others.
//
// The night's process serves it on a Unix socket in the workspace ([Serve]); a screen, or a command
// that prints, attaches to it ([Dial]). Both sides speak lines of JSON, each a [Message] of which
// one field is set. The process begins with what it is, the viewer with who it is:
//
//	< {"hello":{"protocol":2,"night":21,"seq":812,"title":"Move the quays to the new clocks",…}}
//	> {"hello":{"protocol":2,"from":"pts/3"},"after":790}
//	< {"events":[{"seq":791,…},…]}
//	< {"wheel":{"has":"ada (pts/3)","viewers":["ada (pts/3)","ben (pts/7)"],"mine":true}}
//	> {"do":{"n":1,"command":{"hold":4,"choice":"try again"}}}
//	< {"done":{"n":1}}
//	< {"over":true}
//
// Events come as they become durable, in the journal's order, and each at most once. Those that a
// viewer has not got and the process has no more of at hand are a gap: the viewer reads them from
// the journal, and goes on from there. Nobody who looks can hold the night up: who stands still
// falls into a gap.
//
// Many may look. One has the wheel: only its decisions are taken, and they are journalled with who
// it is, as the system knows it. Whoever wants the wheel says so, and has it from then on; all are
// told. Who goes away gives it back.
package attach

import (
	"metabasis/internal/core/night"
)

// Protocol is the version of what is spoken. Two that do not speak the same do not go on.
const Protocol = 3

// Message is one line, in either direction. One of its fields is set; a viewer's hello has After
// beside it.
type Message struct {
	Hello *Hello `json:"hello,omitempty"`
	// After is the number of the last event that a viewer has: what comes behind it is sent.
	After *int64 `json:"after,omitempty"`
	// Refused says why nothing more comes.
	Refused string `json:"refused,omitempty"`
	// Events are what has happened.
	Events []night.Event `json:"events,omitempty"`
	// Gap is the number of the last event that is to be read from the journal, since it is not at
	// hand any more. The viewer then says After anew.
	Gap int64 `json:"gap,omitempty"`
	// Wheel is who decides, and who looks. A viewer's takes the wheel.
	Wheel *Wheel `json:"wheel,omitempty"`
	// Here is said by a viewer again and again: it is there.
	Here bool `json:"here,omitempty"`
	// Do is a decision of a viewer, and Done what came of passing it on.
	Do   *Do   `json:"do,omitempty"`
	Done *Done `json:"done,omitempty"`
	// Lines asks what will be sent to a device, and is the answer.
	Lines *Lines `json:"lines,omitempty"`
	// Ask is what the night's process asks of whoever has the wheel, and the answer.
	Ask *Ask `json:"ask,omitempty"`
	// Login has the login of a device typed anew, which is asked for.
	Login *Login `json:"login,omitempty"`
	// Console is of a device that is worked by hand; it stands beside the hello of a connection that is
	// for nothing else.
	Console *Console `json:"console,omitempty"`
	// Over says that the night is over, and all was told.
	Over bool `json:"over,omitempty"`
}

// Hello is who is at the other end.
type Hello struct {
	Protocol int    `json:"protocol"`
	Version  string `json:"version,omitempty"` // of Metabasis
	// Of the night's process.
	Night int64  `json:"night,omitempty"`
	Title string `json:"title,omitempty"`
	By    string `json:"by,omitempty"`
	PID   int    `json:"pid,omitempty"`
	Seq   int64  `json:"seq,omitempty"` // the newest event
	// Notes are what was met when it began.
	Notes []string `json:"notes,omitempty"`
	// Screen tells that it is run on a screen of its process, and ends with that.
	Screen bool `json:"screen,omitempty"`
	// Of a viewer: from where it looks, such as pts/3. Who it is the system tells.
	From string `json:"from,omitempty"`
	// Agent is the socket of its SSH agent: that of the night may have ended with the login it came with.
	Agent string `json:"agent,omitempty"`
}

// Wheel is who decides, and who looks.
type Wheel struct {
	Has     string   `json:"has,omitempty"` // "" is nobody
	Mine    bool     `json:"mine,omitempty"`
	Viewers []string `json:"viewers,omitempty"`
	// Take is said by a viewer: it wants the wheel.
	Take bool `json:"take,omitempty"`
}

// Do is a decision.
type Do struct {
	N       int64         `json:"n"`
	Command night.Command `json:"command"`
}

// Done says what came of passing a decision on.
type Done struct {
	N     int64  `json:"n"`
	Error string `json:"error,omitempty"`
}

// Lines is what will be sent to a device.
type Lines struct {
	N      int64    `json:"n"`
	Device string   `json:"device,omitempty"`
	Lines  []string `json:"lines,omitempty"`
}

// Login has the login of a device typed anew.
type Login struct {
	N      int64  `json:"n"`
	Device string `json:"device"`
}
