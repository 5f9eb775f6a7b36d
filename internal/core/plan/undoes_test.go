package plan

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

// Undo lines that leave what the step puts there are refused where the language can tell.
func TestUndoThatDoesNotUndo(t *testing.T) {
	for name, c := range map[string]struct{ lines, want string }{
		"undone":             {"  send\n    | log host 192.0.2.9\n  undo\n    | drop log host 192.0.2.9\n", ""},
		"another is dropped": {"  send\n    | log host 192.0.2.9\n    | lan 310\n  undo\n    | drop lan 310\n", `the undo lines of step "Lines" do not undo it on tern: "log host 192.0.2.9" stays`},
		"half of it":         {"  send\n    | log host 192.0.2.9\n    | port 3\n    | label \"gate\"\n  undo\n    | drop log host 192.0.2.9\n", `"port 3 > label \"gate\"" stays`},
		"replaced":           {"  send\n    | port 3\n    | label \"new\"\n  undo\n    | port 3\n    | label \"old\"\n", ""},
		"not known":          {"  send\n    | dance\n  undo\n    | sit\n", ""},
		"computed":           {"  send\n    | log host 192.0.2.9\n", ""},
	} {
		text := "runbook \"x\"\n  window    01:30 for 2h\n\nscope\n  true\n\ntimer       10m\n\nstep \"Lines\"\n" + c.lines
		_, err := Make(parse(t, text), read(t, "name,address,platform\na,192.0.2.1,tern\n"), nil, speaking(), night)
		if c.want == "" {
			assert.NoError(t, err, name)
		} else {
			assert.ErrorContains(t, err, c.want, name)
		}
	}
}
