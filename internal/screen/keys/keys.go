// Package keys is the one table of keys: a key means the same in every view. A view
// takes its keys from here and says what they do there; docs/keys.md is this table,
// and a test holds the two against each other.
package keys

import "charm.land/bubbles/v2/key"

// bind makes a binding: its name and meaning for people, and the keys as the terminal
// names them.
func bind(name, means string, keys ...string) key.Binding {
	return key.NewBinding(key.WithKeys(keys...), key.WithHelp(name, means))
}

// The keys that work everywhere.
var (
	Back      = bind("q Esc", "back to the view below; in the last one, leave", "q", "esc")
	Help      = bind("?", "all keys of this view", "?")
	Decide    = bind("d", "decide on what is held, from every view", "d")
	Abort     = bind("a", "abort the night, from every view; asks first", "a")
	Answer    = bind("A", "answer what is asked", "A")
	Workspace = bind("w", "the workspace: what needs you, fleet, runbooks, nights", "w")
	Page      = bind("I", "all that is known of the device under the cursor, from every list of devices", "I")
	Leave     = bind("Ctrl-C", "leave; while a night runs, abort it; asks first", "ctrl+c")
)

// The keys that move, in every list and text.
var (
	Up       = bind("↑ k", "up", "up", "k")
	Down     = bind("↓ j", "down", "down", "j")
	Left     = bind("← h", "left", "left", "h")
	Right    = bind("→ l", "right", "right", "l")
	PageUp   = bind("PgUp b", "a page up", "pgup", "b", "ctrl+b")
	PageDown = bind("PgDn Space", "a page down", "pgdown", "space", "ctrl+f")
	HalfUp   = bind("Ctrl-U", "half a page up", "ctrl+u")
	HalfDown = bind("Ctrl-D", "half a page down", "ctrl+d")
	First    = bind("Home g", "to the first", "home", "g")
	Last     = bind("End G", "to the last", "end", "G")
	Find     = bind("/", "find a text", "/")
	Next     = bind("n", "the next that has the text", "n")
	Previous = bind("N", "the one before that has it", "N")
	Only     = bind("&", "only rows that have a text", "&")
)

// The keys of views.
var (
	Open       = bind("Enter", "open, or do, what is under the cursor", "enter")
	Need       = bind("!", "the next that needs you", "!")
	Fold       = bind("f", "fold to a cell a device, or unfold", "f")
	Pane       = bind("Tab", "what stands beside the list, in full", "tab")
	Console    = bind("c", "work the device by hand; asks first", "c")
	Begin      = bind("B", "begin the night; asks first. In the Fleet view: a runbook, for what is marked", "B")
	Predict    = bind("p", "rehearse: reach and check the devices, back them up, and compute what will change; changes nothing", "p")
	Differs    = bind("v", "lines, or the difference that they make; of a device, what was predicted with now", "v")
	Waive      = bind("W", "waive a precheck on a device; asks first", "W")
	Values     = bind("V", "give the values of the runbook anew, before the night begins", "V")
	Reach      = bind("r", "reach the devices that are marked, else all", "r")
	Again      = bind("R", "again, for the rest: devices not reached; of a past night those not kept, which plans a night", "R")
	Login      = bind("L", "type the login of the device anew: its user and its secrets", "L")
	HostKeys   = bind("K", "see and accept new host keys", "K")
	Table      = bind("t", "read a table from the devices that are marked, else all", "t")
	Mark       = bind("m", "mark, or unmark", "m")
	Range      = bind("M", "mark from the last mark to here", "M")
	Where      = bind("=", "mark where a condition holds", "=")
	Unmark     = bind("x", "take all marks away", "x")
	Order      = bind("o", "the next order or grouping", "o")
	Save       = bind("s", "save: the marks as a selection, a table as CSV; take the lines that were edited", "s")
	Settle     = bind("S", "say that you have seen to it", "S")
	Edit       = bind("e", "edit the runbook in your own editor", "e")
	Insert     = bind("i", "insert a step to begin with", "i")
	Play       = bind("P", "play a past night again; let it stand, or go on. Of a night that runs: begin no new device", "P")
	EventBack  = bind(",", "played again: an event back", ",")
	EventOn    = bind(".", "an event on", ".")
	MinuteBack = bind("<", "played again: a minute back", "<")
	MinuteOn   = bind(">", "a minute on", ">")
	Faster     = bind("+", "played again: faster", "+", "*")
	Slower     = bind("-", "slower. Of a night that runs: how many devices are in change at once", "-")
	Compare    = bind("C", "compare: before and after, then and now, with what is marked", "C")
	Restore    = bind("T", "take back to what was: plans a night, which asks before it begins", "T")
	Backup     = bind("u", "back up: put what runs on the devices on the shelf", "u")
	Verify     = bind("y", "hold all backups against their checksums", "y")
	Ask        = bind("Q", "ask a command that changes nothing of the devices that are marked, else all", "Q")
	Record     = bind("z", "record tables and configurations of them under a name", "z")
	Push       = bind("O", "push all backups off this machine", "O")
	Prune      = bind("X", "clear what is not kept from the shelf; lists it and asks first", "X")
	Report     = bind("D", "the report of the night, to be read", "D")
	LeaveOut   = bind("U", "leave out the device under the cursor, which has not begun; asks for the reason. Of lines that are edited: the line", "U")
	Note       = bind("E", "write a note into the journal of the night that runs", "E")
	Wheel      = bind("H", "take the wheel of a night that runs in another process: from then on, what is decided here is done", "H")
	Choose     = bind("1…9", "choose an answer", "1", "2", "3", "4", "5", "6", "7", "8", "9")
)

// Group is a part of the table.
type Group struct {
	Name string
	Keys []key.Binding
}

// All is the whole table.
func All() []Group {
	return []Group{
		{"Everywhere", []key.Binding{Back, Help, Decide, Abort, Answer, Workspace, Page, Leave}},
		{"To move", []key.Binding{Up, Down, Left, Right, PageUp, PageDown, HalfUp, HalfDown, First, Last, Find, Next, Previous, Only}},
		{
			"In views",
			[]key.Binding{
				Open,
				Need,
				Fold,
				Pane,
				Console,
				Begin,
				Predict,
				Differs,
				Waive,
				Values,
				Reach,
				Again,
				Login,
				HostKeys,
				Table,
				Mark,
				Range,
				Where,
				Unmark,
				Order,
				Save,
				Settle,
				Edit,
				Insert,
				Play,
				EventBack,
				EventOn,
				MinuteBack,
				MinuteOn,
				Faster,
				Slower,
				LeaveOut,
				Compare,
				Restore,
				Backup,
				Verify,
				Ask,
				Record,
				Push,
				Prune,
				Report,
				Note,
				Wheel,
				Choose,
			},
		},
	}
}
