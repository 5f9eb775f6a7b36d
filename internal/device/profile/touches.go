package profile

import (
	"fmt"
	"strings"
)

// Touches says what trying the profile does on a device where changes are allowed.
func (p *Profile) Touches() []string {
	out := []string{"edit mode will be entered", "a word that no device knows sent in it"}
	if p.Config.Whole {
		out = []string{"its configuration will be handed over to it"}
	}
	if p.Timer.Kind.BringsBack() {
		out = append(out, "a rollback timer armed and disarmed")
	}
	if p.Grammar.Harmless != "" {
		out = append(out, fmt.Sprintf("%q put into its configuration and taken away", p.Grammar.Harmless))
	}
	if p.Trial.Apply.Send != "" {
		out = append(out, "its configuration applied on trial as it is and taken back")
	}
	return out
}

// TimerSays finds the lines of an answer that tell that a timer is pending, and that none is.
func (p *Profile) TimerSays(got []string) (pending, none string) {
	for _, l := range got {
		if p.Timer.Pending.Matches(l) {
			pending = l
		}
		if p.Timer.None.Matches(l) {
			none = l
		}
	}
	return pending, none
}

// RowText writes a row in a line.
func (r Reader) RowText(row map[string]any) string {
	var parts []string
	for _, c := range r.TableColumns() {
		parts = append(parts, c.Name+"="+c.Text(row[c.Name]))
	}
	return strings.Join(parts, " ")
}

// Nonsense is a word that no device should know.
const Nonsense = "zzyzx"
