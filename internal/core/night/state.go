package night

import "slices"

// State is where a device is in its night.
type State string

// The states of a device.
const (
	Waiting   State = "waiting"
	Checking  State = "checking"
	Recording State = "recording"
	Armed     State = "armed"
	Changing  State = "changing"
	Verifying State = "verifying"
	Soaking   State = "soaking"
	Held      State = "held"
	Reverting State = "reverting"
	Dark      State = "dark"
	Absent    State = "absent" // it restarts, as it was told to

	Kept     State = "kept"
	Already  State = "already"
	Blocked  State = "blocked"
	Skipped  State = "skipped"
	Reverted State = "reverted"
	Stranded State = "stranded"
)

// status is what is true of a state, wherever it is met.
type status struct {
	state   State
	shape   string  // of the Geometric Shapes block, all of one size; no two states have the same
	ends    bool    // a device's night can end in it
	good    bool    // all is as it was meant to be
	outcome Outcome // of a night in which a device is left in it
}

// statuses has all states from the best end to the worst, then those on the way, the nearest
// to an end first. It is the only list of them.
var statuses = []status{
	{Kept, "●", true, true, AllKept},
	{Already, "◎", true, true, AllKept},
	{Skipped, "▫", true, false, SomeBlocked},
	{Blocked, "▪", true, false, SomeBlocked},
	{Reverted, "◁", true, false, SomeBack},
	{Stranded, "▲", true, false, NeedsPerson},
	{Held, "◆", false, false, SomeBlocked},
	{Dark, "▽", false, false, NeedsPerson},
	{Absent, "◐", false, false, NeedsPerson},
	{Reverting, "◀", false, false, SomeBlocked},
	{Soaking, "◌", false, false, SomeBlocked},
	{Verifying, "◕", false, false, SomeBlocked},
	{Changing, "◧", false, false, SomeBlocked},
	{Armed, "◊", false, false, SomeBlocked},
	{Recording, "◫", false, false, SomeBlocked},
	{Checking, "◔", false, false, SomeBlocked},
	{Waiting, "◦", false, false, SomeBlocked},
}

// States lists all states from the best end to the worst, then those on the way.
func States() []State {
	out := make([]State, len(statuses))
	for i, s := range statuses {
		out[i] = s.state
	}
	return out
}

// Rank is the place of a state among [States]; -1 is one of a later version.
func (s State) Rank() int {
	return slices.IndexFunc(statuses, func(of status) bool { return of.state == s })
}

// of is what is true of a state. Of one of a later version nothing good is known.
func (s State) of() status {
	if i := s.Rank(); i >= 0 {
		return statuses[i]
	}
	return status{state: s, shape: "?", outcome: SomeBlocked}
}

// Ended tells whether a device's night can end in s. A device that was let go of while its
// timer runs ends dark, too; see [Device.Over].
func (s State) Ended() bool { return s.of().ends }

// Good tells whether a device in s is as it was meant to be: kept, or already so.
func (s State) Good() bool { return s.of().good }

// Shape is how a state is drawn beside its word.
func (s State) Shape() string { return s.of().shape }
