package runbook

import (
	"errors"
	"io/fs"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metabasis/internal/core/kind"
	"metabasis/internal/core/problem"
)

// filled parses a runbook whose texts stand in files, and puts them in.
func filledWith(t *testing.T, steps string, files map[string]string) (*Runbook, error) {
	t.Helper()
	rb, err := Parse("x.runbook", []byte(head+steps))
	if err != nil {
		return nil, err
	}
	err = rb.Fill(func(name string) ([]byte, error) {
		body, ok := files[name]
		if name == "locked.txt" {
			return nil, errors.New("permission denied")
		}
		if !ok {
			return nil, fs.ErrNotExist
		}
		return []byte(body), nil
	})
	if err != nil {
		return nil, err
	}
	return rb, rb.Compile(Schema{Fields: []kind.Column{{Name: "gate_port"}}})
}

// The lines of a file are sent as those behind bars are: with the device's values, with
// their indentation. What an empty line is for is known with the device: in a text of several
// lines it stands.
func TestLinesFromAFile(t *testing.T) {
	rb, err := filledWith(t, `step "Gates"
  send file "gates.txt"
  undo first file "back.txt"

step "Again"
  want file "gates.txt"
`, map[string]string{"gates.txt": "lan 310\n\nport <<gate_port>>  \n  lan 310\r\n  label \\<<x\n", "back.txt": "drop lan 310"})
	require.NoError(t, err)
	on := rb.Steps[0].On[0]
	var lines []string
	for _, text := range on.Send {
		l, err := text.Render(Env{"gate_port": "7"})
		require.NoError(t, err)
		lines = append(lines, l)
	}
	assert.Equal(t, []string{"lan 310", "", "port 7", "  lan 310", "  label <<x"}, lines)
	assert.True(t, on.UndoFirst)
	assert.Len(t, on.Undo, 1)
	assert.Len(t, rb.Steps[1].On[0].Want, 5)
	assert.Equal(t, []string{"gate_port"}, on.Names())
	assert.Equal(t, "gates.txt", on.Send[2].File())
	assert.Equal(t, 3, on.Send[2].Line())
	_, err = on.Send[2].Render(Env{"gate_port": ""})
	assert.ErrorContains(t, err, "gates.txt line 3: value gate_port is empty")
}

// What is wrong with a file is told with the file and its line.
func TestFilesThatCannotBeUsed(t *testing.T) {
	for name, c := range map[string]struct{ step, body, want string }{
		"not there":       {`send file "nosuch.txt"`, "", "x.runbook:10:13: there is no file nosuch.txt in the workspace"},
		"locked":          {`send file "locked.txt"`, "", "x.runbook:10:13: the file locked.txt cannot be read: permission denied"},
		"outside":         {`send file "../x.txt"`, "", `"../x.txt" is not a file inside the workspace`},
		"absolute":        {`send file "/etc/x.txt"`, "", `"/etc/x.txt" is not a file inside the workspace`},
		"no name":         {`send file`, "", "the name of a file of the workspace in quotes"},
		"lines under it":  {"send file \"a.txt\"\n    | x", "x", "nothing can stand under line 10"},
		"nothing in it":   {`send file "a.txt"`, "\n \n", "no line stands in the file a.txt"},
		"unknown value":   {`send file "a.txt"`, "one\nport <<gate_prot>>", "a.txt:2:8: nothing is called \"gate_prot\" here; write: gate_port"},
		"open angles":     {`send file "a.txt"`, "port <<gate_port", "a.txt:1:6: these angles are not closed"},
		"control":         {`send file "a.txt"`, "port \x07", "a.txt:1:6: a control character"},
		"a bar":           {`send file "a.txt"`, "| port 7", "a bar stands before a line in a runbook only"},
		"of the device":   {`send file "a.txt"`, "port <<clock>>", "a.txt:1:8"},
		"beside its want": {"send file \"a.txt\"\n  want\n    | x", "x", "says both what shall be there and what is sent"},
	} {
		_, err := filledWith(t, "step \"S\"\n  "+c.step+"\n  undo\n    | y\n", map[string]string{"a.txt": c.body})
		assert.ErrorContains(t, err, c.want, name)
		var list problem.List
		assert.ErrorAs(t, err, &list, name)
	}
	for name, c := range map[string]struct{ step, body, want string }{
		"put, no file":   {"put", "x", `expected "file", found the end of the line`},
		"put and want":   {"put file \"a.txt\"\n  want\n    | x", "x", "puts a whole file in place, which says all that shall be there: want does not go with it"},
		"put and send":   {"put file \"a.txt\"\n  send\n    | x", "x", "send does not go with it"},
		"put in a loop":  {"for       n in 7..9\n  put file \"a.txt\"", "x", "for does not go with it"},
		"nothing to put": {`put file "a.txt"`, "\n \n", "no line stands in the file a.txt"},
	} {
		_, err := filledWith(t, "step \"S\"\n  "+c.step+"\n", map[string]string{"a.txt": c.body})
		assert.ErrorContains(t, err, c.want, name)
	}
	whole, err := filledWith(t, "step \"S\"\n  put file \"a.txt\"\n", map[string]string{"a.txt": "one\n\n  port <<gate_port>>\n\n"})
	require.NoError(t, err)
	require.Len(t, whole.Steps[len(whole.Steps)-1].On[0].Put, 3, "with its empty lines, but for those at its end")
	rb, err := Parse("x.runbook", []byte(head+"step \"S\"\n  send file \"a.txt\"\n  undo\n    | y\n"))
	require.NoError(t, err)
	assert.Equal(t, []string{"a.txt"}, rb.Files())
	assert.ErrorContains(t, rb.Compile(Schema{}), "the file a.txt was not read")
}
