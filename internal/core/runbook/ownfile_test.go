package runbook

import (
	"errors"
	"io/fs"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metabasis/internal/core/problem"
)

// ownBook has a file for each device.
func ownBook(t *testing.T, step string, files map[string]string, read *[]string) (*Runbook, error) {
	t.Helper()
	rb, err := Parse("x.runbook", []byte("runbook \"x\"\n  window none\n\nscope\n  role == \"quay\"\n\ntimer 10m\n\nstep \"s\"\n"+step))
	require.NoError(t, err)
	require.NoError(t, rb.Fill(func(name string) ([]byte, error) {
		*read = append(*read, name)
		if name == "intent/locked.txt" {
			return nil, errors.New("permission denied")
		}
		body, ok := files[name]
		if !ok {
			return nil, fs.ErrNotExist
		}
		return []byte(body), nil
	}))
	return rb, rb.Compile(schema)
}

// Each device has the lines of its own file, with its own values; a file is read once, and what
// was read of it is there to be kept.
func TestFilesOfSingleDevices(t *testing.T) {
	var read []string
	rb, err := ownBook(t, "  want file \"intent/<<name>>.txt\"\n", map[string]string{
		"intent/a-1.txt":     "lan 310\n\nport <<gate_port>>\n",
		"intent/empty.txt":   "\n\n",
		"intent/slip.txt":    "lan 310\nport <<gate_prot>>\n",
		"intent/control.txt": "lan 310\a\n",
	}, &read)
	require.NoError(t, err)
	assert.Empty(t, read, "which file it is, is known with the device")
	text := rb.Steps[0].On[0].Want[0]
	require.True(t, text.Each())
	lines := func(name, port string) (out []string) {
		texts, err := rb.Own(text, Env{"name": name})
		require.NoError(t, err)
		for _, l := range texts {
			line, err := l.Render(Env{"name": name, "gate_port": port})
			require.NoError(t, err)
			out = append(out, line)
		}
		return out
	}
	assert.Equal(t, []string{"lan 310", "", "port 7"}, lines("a-1", "7"))
	assert.Equal(t, []string{"lan 310", "", "port 8"}, lines("a-1", "8"))
	assert.Equal(t, []string{"intent/a-1.txt"}, read)

	own := func(name string) error { _, err := rb.Own(text, Env{"name": name}); return err }
	var none *NoFile
	require.ErrorAs(t, own("b-1"), &none)
	assert.Equal(t, "intent/b-1.txt", none.File)
	assert.ErrorContains(t, own("empty"), "no line stands in the file intent/empty.txt")
	assert.ErrorContains(t, own("locked"), "permission denied")
	assert.ErrorContains(t, own("../../etc/hosts"), "is not a file inside the workspace")
	assert.ErrorContains(t, own("*"), "is not a file inside the workspace")
	assert.ErrorContains(t, own(""), "value name is empty")
	var slips problem.List
	require.ErrorAs(t, own("slip"), &slips)
	assert.Equal(t, "intent/slip.txt", slips[0].File)
	assert.Equal(t, 2, slips[0].Line)
	assert.ErrorContains(t, own("control"), "a control character")

	names, bodies := rb.OwnFiles()
	assert.Equal(t, []string{"intent/a-1.txt", "intent/control.txt", "intent/empty.txt", "intent/slip.txt"}, names)
	assert.Equal(t, "lan 310\n\nport <<gate_port>>\n", bodies[0])
}

// What is sent is known, and kept, before the night: no file is looked for in its midst.
func TestNoFileIsReadInTheMidstOfANight(t *testing.T) {
	var read []string
	for step, want := range map[string]string{
		"  for n in neighbours\n  want file \"intent/<<name>>.txt\"\n":                   "which file this is must be known before the night",
		"  for n in neighbours where n.port == 7\n  want file \"intent/<<name>>.txt\"\n": "which file this is must be known before the night",
		"  for n in 1..3\n  want file \"intent/<<name>>-<<n>>.txt\"\n":                   "",
		"  when clock.settled\n  want file \"intent/<<name>>.txt\"\n":                    "",
	} {
		_, err := ownBook(t, step, nil, &read)
		if want == "" {
			assert.NoError(t, err, step)
		} else {
			assert.ErrorContains(t, err, want, step)
		}
	}
}
