// Package ink is how the screen is drawn: a night harbour on dark ink, and a
// light variant, in rows of styled text that are cut and filled to a width.
//
// Colour is never the only sign: every state has a word and a shape of its own.
package ink

import (
	"image/color"

	"charm.land/lipgloss/v2"

	"metabasis/internal/core/night"
)

// Theme is a set of inks.
type Theme struct {
	Name   string
	Ground color.Color
	inks   map[Ink]color.Color
	marked color.Color // ground of the row under the cursor
}

// Ink is a colour by its meaning.
type Ink int

// The inks.
const (
	Foam    Ink = iota // text
	Dim                // text of less weight
	Faint              // rails and rulers, never text
	Lamp               // needs you
	Buoy               // good
	Port               // bad
	Tide               // in motion
	Heather            // being taken back
)

// Dark is ink and harbour lights.
var Dark = Theme{
	Name: "dark", Ground: lipgloss.Color("#0b141b"), marked: lipgloss.Color("#182a36"),
	inks: map[Ink]color.Color{
		Foam: lipgloss.Color("#d8e0e3"), Dim: lipgloss.Color("#8699a4"), Faint: lipgloss.Color("#3d4f5b"),
		Lamp: lipgloss.Color("#f4bb4e"), Buoy: lipgloss.Color("#67c993"), Port: lipgloss.Color("#f47f78"),
		Tide: lipgloss.Color("#76b9ec"), Heather: lipgloss.Color("#bda3ee"),
	},
}

// Light is paper in the wheelhouse by day.
var Light = Theme{
	Name: "light", Ground: lipgloss.Color("#f5f2e9"), marked: lipgloss.Color("#e6e0cf"),
	inks: map[Ink]color.Color{
		Foam: lipgloss.Color("#1b2831"), Dim: lipgloss.Color("#505e67"), Faint: lipgloss.Color("#b4ae9c"),
		Lamp: lipgloss.Color("#7d5000"), Buoy: lipgloss.Color("#1b6340"), Port: lipgloss.Color("#a3241d"),
		Tide: lipgloss.Color("#195a8f"), Heather: lipgloss.Color("#643aa2"),
	},
}

// Color is the colour of an ink.
func (t *Theme) Color(i Ink) color.Color { return t.inks[i] }

// Marked is the ground under the cursor.
func (t *Theme) Marked() color.Color { return t.marked }

// Sign is a state's shape and ink; its word is the state itself.
type Sign struct {
	Shape string
	Ink   Ink
}

// inks are the inks of the states.
var inks = map[night.State]Ink{
	night.Waiting:   Dim,
	night.Checking:  Tide,
	night.Recording: Tide,
	night.Armed:     Tide,
	night.Changing:  Tide,
	night.Verifying: Tide,
	night.Soaking:   Tide,
	night.Kept:      Buoy,
	night.Already:   Buoy,
	night.Blocked:   Lamp,
	night.Skipped:   Dim,
	night.Held:      Lamp,
	night.Reverting: Heather,
	night.Reverted:  Heather,
	night.Dark:      Port,
	night.Absent:    Tide,
	night.Stranded:  Port,
}

// SignOf is the sign of a state.
func SignOf(s night.State) Sign { return Sign{s.Shape(), inks[s]} }
