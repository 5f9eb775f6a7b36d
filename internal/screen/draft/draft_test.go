package draft

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metabasis/internal/acts"
	"metabasis/internal/core/problem"
	"metabasis/internal/core/runbook"
	"metabasis/internal/screen"
	"metabasis/internal/screen/screentest"
)

const text = "runbook \"x\"\n  window    none\n\nscope\n  true\n\ntimer       5m\n\nstep \"A\"\n  send\n    | a\n  undo\n    | b\n\nstep \"B\"\n  send\n    | c\n  undo\n    | d\n"

// written is a source over a file that tests change.
func written(t *testing.T, read func(file string) *acts.Draft) (Source, string) {
	t.Helper()
	file := filepath.Join(t.TempDir(), "x.runbook")
	require.NoError(t, os.WriteFile(file, []byte(text), 0o640))
	return Source{File: file, Read: func() *acts.Draft { return read(file) }, Plan: func(h *screen.Host) { h.Say("planned") },
		Watch: func(ctx context.Context, changed func()) error { return Watch(ctx, file, changed) },
		Edit:  func(line int) *Editor { return EditorOf(file, line, func(string) string { return "" }, nil) },
		Put:   func(after int, step string) (int, error) { return Put(file, after, step) }}, file
}

// parsed reads a runbook with its mistakes, and one of another file where there are any.
func parsed(file string) *acts.Draft {
	data, err := os.ReadFile(file)
	if err != nil {
		return &acts.Draft{File: file, Err: err}
	}
	d := &acts.Draft{File: file, Lines: strings.Split(strings.TrimRight(string(data), "\n"), "\n")}
	var list problem.List
	if _, err := runbook.Parse(file, data); errors.As(err, &list) {
		d.Problems = append(list, problem.Problem{File: "fleet.csv", Line: 3, Msg: "a device without a name"})
	}
	return d
}

// Mistakes stand under their lines, and go once the file says something else, whoever
// wrote it.
func TestARunbookIsCheckedAsItIsWritten(t *testing.T) {
	src, file := written(t, parsed)
	s := screentest.Open(t, 130, 40, New(src))
	s.See("● no mistake")
	s.See(`▌ +1 runbook`) // the cursor is more than a colour
	s.Press("enter")
	s.See("planned")
	require.NoError(t, os.WriteFile(file, []byte(strings.Replace(text, "  send\n    | c", "  sned\n    | c", 1)), 0o640))
	s.See(`▲ \d mistakes`)
	s.See(`fleet.csv:3: a device without a name`)
	s.See(`▲ unknown entry "sned"`)
	s.Press("!", "!")
	require.NoError(t, os.WriteFile(file+".new", []byte(text), 0o640))
	require.NoError(t, os.Rename(file+".new", file), "as editors do")
	s.See("● no mistake")
	s.Press("i")
	s.See("a list that shall be exactly so")
	s.Press("esc")
	require.NoError(t, os.Remove(file))
	s.See("no such file")
}

// A step is put behind the one under the cursor, whole, under a title of its own; the rest
// of the file stays as it is.
func TestAStepIsPutIn(t *testing.T) {
	_, file := written(t, parsed)
	for _, c := range []struct {
		after int
		want  string
	}{{10, "    | b\n\nstep \"New step\"\n  want"}, {10, "    | b\n\nstep \"New step 2\"\n  want"}, {99, "step \"New step 3\"\n  want"}, {0, "\n\nstep \"New step 4\"\n"}, {2, "step \"New step 5\"\n"}} {
		at, err := Put(file, c.after, Patterns[0].Text)
		require.NoError(t, err)
		data, err := os.ReadFile(file)
		require.NoError(t, err)
		assert.Contains(t, string(data), c.want)
		assert.Contains(t, strings.Split(string(data), "\n")[at-1], `step "New step`)
		info, err := os.Stat(file)
		require.NoError(t, err)
		assert.Equal(t, os.FileMode(0o640), info.Mode().Perm())
		for _, l := range strings.Split(strings.TrimSpace(text), "\n") {
			assert.Contains(t, string(data), l)
		}
	}
	for before, want := range map[string]string{
		"runbook \"x\"\n  window    none\n\nfinish\n  soak      3s\n":          "  window    none\n\nstep \"New step\"\n  expect",
		"# a remark\nrunbook \"x\"\n":                                          "runbook \"x\"\n\nstep \"New step\"",
		"step \"A\"\n  send\n    | a\n\n# of B\nstep \"B\"\n  send\n    | b\n": "    | a\n\nstep \"New step\"\n  expect    same(neighbours) within 30s\n\n# of B\nstep \"B\"",
		"": "step \"New step\"",
	} {
		require.NoError(t, os.WriteFile(file, []byte(before), 0o640))
		_, err := Put(file, 1, Patterns[4].Text)
		require.NoError(t, err)
		data, err := os.ReadFile(file)
		require.NoError(t, err)
		assert.Contains(t, string(data), want)
	}
	left, err := filepath.Glob(filepath.Join(filepath.Dir(file), ".runbook-*"))
	require.NoError(t, err)
	assert.Empty(t, left, "nothing is left beside it")
	_, err = Put(filepath.Join(t.TempDir(), "nowhere"), 1, "x")
	assert.ErrorIs(t, err, os.ErrNotExist)
}

// Every pattern is a step that can be parsed as it stands, and is tidy.
func TestPatternsAreSteps(t *testing.T) {
	for _, p := range Patterns {
		_, file := written(t, parsed)
		_, err := Put(file, 99, p.Text)
		require.NoError(t, err)
		data, err := os.ReadFile(file)
		require.NoError(t, err)
		_, err = runbook.Parse(file, data)
		assert.NoError(t, err, p.Name)
		tidy, err := runbook.Format(file, data)
		require.NoError(t, err)
		assert.Equal(t, string(data), string(tidy), p.Name)
	}
}

// The person's own editor is opened, at the line where it can, without our secrets.
func TestTheEditor(t *testing.T) {
	for name, c := range map[string]struct {
		env  map[string]string
		want []string
	}{
		"none":   {nil, []string{"vi", "+7", "f"}},
		"editor": {map[string]string{"EDITOR": "nano -w"}, []string{"nano", "-w", "+7", "f"}},
		"visual": {map[string]string{"VISUAL": "/opt/quill --wait", "EDITOR": "nano"}, []string{"/opt/quill", "--wait", "f"}},
	} {
		e := EditorOf("f", 7, func(k string) string { return c.env[k] }, []string{"A=b"})
		assert.Equal(t, c.want, e.Args, name)
		assert.Equal(t, []string{"A=b"}, e.Env)
	}
}

func TestAFileThatCannotBeWatched(t *testing.T) {
	assert.Error(t, Watch(context.Background(), filepath.Join(t.TempDir(), "nowhere", "x"), func() {}))
	ctx, cancel := context.WithTimeout(context.Background(), 50*time.Millisecond)
	defer cancel()
	assert.NoError(t, Watch(ctx, filepath.Join(t.TempDir(), "x"), func() {}))
}
