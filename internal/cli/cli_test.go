package cli

import (
	"os"
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
		return nil
	}, Cmds: map[string]func(*testscript.TestScript, bool, []string){
		"appears": appears,
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
