package e2e

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"metabasis/internal/testenv"
)

var binary string

func TestMain(m *testing.M) {
	testenv.Clear()
	dir, err := os.MkdirTemp("", "metabasis-e2e-")
	if err != nil {
		panic(err)
	}
	binary = filepath.Join(dir, "metabasis")
	os.Setenv("XDG_STATE_HOME", filepath.Join(dir, "state")) // the diagnostic log of what is started here
	build := exec.Command("go", "build", "-o", binary, "metabasis/cmd/metabasis")
	build.Stderr = os.Stderr
	if err := build.Run(); err != nil {
		panic(err)
	}
	code := m.Run()
	os.RemoveAll(dir)
	os.Exit(code)
}

// terminal is a terminal of its own with one program in it.
type terminal struct {
	t      *testing.T
	socket string
}

// start runs a command in a new terminal of that size.
func start(t *testing.T, size string, env []string, args ...string) *terminal {
	t.Helper()
	// The shell tells how the program ended, and waits so that it can be read.
	return startLine(t, size, programLine(t, env, args...)+`; printf '[code %s]' $?; cat`)
}

// programLine is how a shell is told to start the program.
func programLine(t *testing.T, env []string, args ...string) string {
	claims := filepath.Join(filepath.Dir(binary), "claims", filepath.Base(t.Name())) // the same device is simulated by many tests
	words := append([]string{"env", "-u", "TMUX", "TERM=xterm-256color", "METABASIS_CLAIMS=" + claims}, env...)
	words = append(append(words, binary), args...)
	for i, a := range words {
		words[i] = "'" + a + "'"
	}
	return strings.Join(words, " ")
}

// startLine opens a terminal in which a line of a shell runs.
func startLine(t *testing.T, size, line string) *terminal {
	t.Helper()
	_, err := exec.LookPath("tmux")
	require.NoError(t, err, "tmux is needed: make deps installs it")
	term := &terminal{t, fmt.Sprintf("mb-%d-%s-%s", os.Getpid(), size, regexp.MustCompile(`\W`).ReplaceAllString(t.Name(), "-"))}
	w, h, _ := strings.Cut(size, "x")
	term.tmux("-f", "/dev/null", "new-session", "-d", "-x", w, "-y", h, line)
	t.Cleanup(func() {
		if t.Failed() {
			t.Log("the screen at the end:\n" + term.screen())
		}
		_ = exec.Command("tmux", "-L", term.socket, "kill-server").Run()
	})
	return term
}

func (x *terminal) tmux(args ...string) string {
	x.t.Helper()
	out, err := exec.Command("tmux", append([]string{"-L", x.socket}, args...)...).CombinedOutput()
	require.NoError(x.t, err, "%s: %s", args, out)
	return string(out)
}

func (x *terminal) screen() string {
	out, _ := exec.Command("tmux", "-L", x.socket, "capture-pane", "-p").Output()
	return string(out)
}

// press sends keys as tmux names them.
func (x *terminal) press(keys ...string) {
	x.t.Helper()
	for _, k := range keys {
		x.tmux("send-keys", k)
	}
}

const patience = 100 * time.Second

// see waits until the screen shows what matches the pattern, and returns the
// screen.
func (x *terminal) see(pattern string) string {
	x.t.Helper()
	re := regexp.MustCompile(pattern)
	deadline := time.Now().Add(patience)
	for {
		if s := x.screen(); re.MatchString(s) {
			return x.whole(re, s)
		}
		if time.Now().After(deadline) {
			require.FailNow(x.t, "never seen: "+pattern)
		}
		time.Sleep(50 * time.Millisecond)
	}
}

// whole returns the screen once it stands still, since what was seen may have
// been half drawn; where it keeps moving, the newest on which the pattern is.
func (x *terminal) whole(re *regexp.Regexp, s string) string {
	for range 10 {
		time.Sleep(20 * time.Millisecond)
		next := x.screen()
		if next == s {
			break
		}
		if re.MatchString(next) {
			s = next
		}
	}
	return s
}

// beginNow begins the night that is ready.
func (x *terminal) beginNow() {
	x.t.Helper()
	x.see("Ready. Nothing has been sent.")
	x.press("B")
	x.see("Enter begins the night")
	x.press("Enter")
}

// begin starts the night and passes the hold after batch 1.
func (x *terminal) begin() {
	x.t.Helper()
	x.beginNow()
	x.see("the runbook holds after batch 1")
	x.goOn("Go on")
}

// goOn opens Decide on a question of the run, chooses its first answer, which has that
// title, and confirms it.
func (x *terminal) goOn(title string) {
	x.t.Helper()
	x.press("d")
	x.see("Nothing is chosen")
	x.press("1")
	x.see("▌ 1 " + title)
	x.press("Enter")
	x.see(`Enter again: \d+ devices`)
	x.press("Enter")
}

// decide opens Decide on a held device and goes down to the choice with that
// title. A hold may close and another open meanwhile, so it looks before each
// key, as a person would.
func (x *terminal) decide(device, title string) {
	x.t.Helper()
	deadline := time.Now().Add(patience)
	for time.Now().Before(deadline) {
		x.see(regexp.QuoteMeta(device) + `( +◆| is) held|and \d more`)
		s := x.screen()
		switch {
		case regexp.MustCompile(`▌ \d+ `+regexp.QuoteMeta(title)).MatchString(s) && strings.Contains(s, "Decide: "+device):
			return
		case strings.Contains(s, "Esc leaves it") && strings.Contains(s, "Decide: "+device):
			x.press("Down")
		case strings.Contains(s, "Esc leaves it"):
			x.press("Escape")
		case strings.Contains(s, "▌ "+device):
			x.press("d")
		default:
			x.press("!")
		}
		time.Sleep(150 * time.Millisecond)
	}
	require.FailNow(x.t, "never chosen: "+title)
}
