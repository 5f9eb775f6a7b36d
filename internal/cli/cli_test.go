package cli

import (
	"encoding/csv"
	"errors"
	"os"
	"os/exec"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/rogpeppe/go-internal/testscript"
)

func TestMain(m *testing.M) {
	testscript.Main(m, map[string]func(){
		"metabasis": func() { os.Exit(Main(os.Args[1:], os.Stdin, os.Stdout, os.Stderr)) },
	})
}

// TestScripts runs the command line as a shell does.
func TestScripts(t *testing.T) {
	testscript.Run(t, testscript.Params{Dir: "testdata/script", RequireExplicitExec: true, Setup: func(env *testscript.Env) error {
		env.Setenv("XDG_STATE_HOME", env.WorkDir+"/.state")
		env.Setenv("METABASIS_CLAIMS", env.WorkDir+"/.claims") // the same device is simulated by many
		return nil
	}, Cmds: map[string]func(*testscript.TestScript, bool, []string){
		"appears":  appears,
		"exchange": exchange,
		"column":   column,
		"exits":    exits,
	}})
}

// appears waits until a file is there, as the simulator's workspace is when its
// devices can be reached.
func appears(ts *testscript.TestScript, _ bool, args []string) {
	path := ts.MkAbs(args[0])
	for range 500 {
		if _, err := os.Stat(path); err == nil {
			return
		}
		time.Sleep(20 * time.Millisecond)
	}
	ts.Fatalf("%s never appeared", path)
}

// exits CODE COMMAND... runs a command that ends with that exit code.
func exits(ts *testscript.TestScript, _ bool, args []string) {
	err := ts.Exec(args[1], args[2:]...)
	var ended *exec.ExitError
	code := 0
	if errors.As(err, &ended) {
		code = ended.ExitCode()
	} else if err != nil {
		ts.Fatalf("%v", err)
	}
	if args[0] != strconv.Itoa(code) {
		ts.Fatalf("%s ended with %d", strings.Join(args[1:], " "), code)
	}
}

// exchange FROM TO A B writes a fleet file in which two devices have each other's port.
func exchange(ts *testscript.TestScript, _ bool, args []string) {
	rows := tableOf(ts, args[0])
	at := slices.Index(rows[0], "port")
	a, b := rowOf(ts, rows, args[2]), rowOf(ts, rows, args[3])
	a[at], b[at] = b[at], a[at]
	writeTable(ts, args[1], rows)
}

// column FROM TO NAME DEVICE VALUE... writes a fleet file with one column more.
func column(ts *testscript.TestScript, _ bool, args []string) {
	rows := tableOf(ts, args[0])
	for i := range rows {
		value := ""
		if i == 0 {
			value = args[2]
		}
		if at := slices.Index(args[3:], rows[i][0]); i > 0 && at >= 0 && at%2 == 0 {
			value = args[3+at+1]
		}
		rows[i] = append(rows[i], value)
	}
	writeTable(ts, args[1], rows)
}

func tableOf(ts *testscript.TestScript, file string) [][]string {
	r := csv.NewReader(strings.NewReader(ts.ReadFile(file)))
	r.Comment = '#'
	rows, err := r.ReadAll()
	ts.Check(err)
	return rows
}

func rowOf(ts *testscript.TestScript, rows [][]string, name string) []string {
	i := slices.IndexFunc(rows, func(r []string) bool { return r[0] == name })
	if i < 0 {
		ts.Fatalf("no device %s", name)
	}
	return rows[i]
}

func writeTable(ts *testscript.TestScript, file string, rows [][]string) {
	var b strings.Builder
	ts.Check(csv.NewWriter(&b).WriteAll(rows))
	ts.Check(os.WriteFile(ts.MkAbs(file), []byte(b.String()), 0o644))
}
