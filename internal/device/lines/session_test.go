package lines

import (
	"bufio"
	"bytes"
	"context"
	"fmt"
	"io"
	"net"
	"strings"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metabasis/internal/core/driver"
	"metabasis/internal/core/reach"
	"metabasis/internal/device/profile"
	"metabasis/internal/sim/pipe"
)

// keeper is a transcript in memory.
type keeper struct {
	mu   sync.Mutex // a console reads and writes at the same time
	kept []string
}

func (k *keeper) add(lines ...string) {
	k.mu.Lock()
	defer k.mu.Unlock()
	k.kept = append(k.kept, lines...)
}

func (k *keeper) Sent(prompt, line string) { k.add("> " + prompt + line) }
func (k *keeper) Got(lines []string)       { k.add(lines...) }
func (k *keeper) Note(text string)         { k.add("· " + text) }

// text is all of it.
func (k *keeper) text() string {
	k.mu.Lock()
	defer k.mu.Unlock()
	return strings.Join(k.kept, "\n")
}

// unprivileged is tern without a privileged mode to enter at the start.
func unprivileged(t *testing.T) *profile.Profile {
	p := tern(t)
	p.Top, p.Pager.Off.In = "", "look"
	return p
}

// stage plays a device by hand: script gets each line that arrives and prints.
func stage(t *testing.T, first string, script func(line string, out io.Writer)) (net.Conn, func()) {
	t.Helper()
	return narrow(t, 1<<20, first, script)
}

// narrow does the same over a connection that holds so many bytes either way.
func narrow(t *testing.T, size int, first string, script func(line string, out io.Writer)) (net.Conn, func()) {
	t.Helper()
	ours, c := pipe.New(size)
	done := make(chan struct{})
	go func() {
		defer close(done)
		defer c.Close()
		io.WriteString(c, first)
		in := bufio.NewScanner(c)
		in.Split(lineOrKey)
		for in.Scan() {
			script(in.Text(), c)
		}
	}()
	return ours, func() { ours.Close(); <-done }
}

// lineOrKey takes in a line, or what was typed up to ^C, which needs no Enter.
func lineOrKey(data []byte, end bool) (int, []byte, error) {
	if i := bytes.IndexByte(data, 3); i >= 0 && !bytes.Contains(data[:i], []byte("\n")) {
		return i + 1, data[:i+1], nil
	}
	return bufio.ScanLines(data, end)
}

// ok answers a line as tern does when there is nothing to say.
func ok(line string, out io.Writer) {
	mode := "look"
	io.WriteString(out, line+"\r\n[x "+mode+"] ")
}

// A device that no longer reads what it is sent costs its time, and is closed.
func TestADeviceThatTakesNothingIsGivenUp(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		conn, end := narrow(t, 1024, "[x look] ", func(line string, out io.Writer) {
			if line == "pages off" {
				ok(line, out)
				return
			}
			time.Sleep(time.Hour)
		})
		defer end()
		s, err := Start(context.Background(), unprivileged(t), conn, profile.Options{Log: &keeper{}})
		require.NoError(t, err)
		require.NoError(t, s.write("stand still\n"))
		synctest.Wait()
		began := time.Now()
		_, err = s.say(context.Background(), strings.Repeat("x", 8000), nil)
		assert.ErrorContains(t, err, "it takes no more of what we send for 10s")
		assert.Equal(t, pieceShown+10*time.Second, time.Since(began), "the first piece is waited for a moment")
		require.NoError(t, s.Close())
		assert.LessOrEqual(t, time.Since(began), 14*time.Second)
	})
}

// A long backup goes to a device that echoes it over a narrow line: what it
// echoes is taken in meanwhile, or neither side could go on.
func TestALongBackupIsRestored(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		var got []string
		loading := false
		conn, end := narrow(t, 8<<10, "[x look] ", func(line string, out io.Writer) {
			switch {
			case line == "load running":
				loading = true
				io.WriteString(out, line+"\r\nSend the configuration, then a line: end of text\r\n")
			case loading && line == "end of text":
				loading = false
				io.WriteString(out, line+"\r\nLoaded.\r\n[x look] ")
			case loading:
				got = append(got, line)
				io.WriteString(out, line+"\r\n")
			default:
				ok(line, out)
			}
		})
		p := unprivileged(t)
		p.Restore.In = "look"
		s, err := Start(context.Background(), p, conn, profile.Options{Log: &keeper{}})
		require.NoError(t, err)
		var config strings.Builder
		for i := range 20_000 {
			fmt.Fprintf(&config, "port %d label \"a gate\"\n", i)
		}
		require.NoError(t, s.Restore(context.Background(), config.String()))
		s.Close()
		end()
		assert.Equal(t, config.String(), strings.Join(got, "\n")+"\n")
	})
}

// A device that is left by no command is sent none, and not waited for.
func TestADeviceThatIsLeftByNoCommand(t *testing.T) {
	for _, gently := range []bool{false, true} {
		leftByNoCommand(t, profile.Options{Log: &keeper{}, Gently: gently})
	}
}

func leftByNoCommand(t *testing.T, opt profile.Options) {
	synctest.Test(t, func(t *testing.T) {
		var got []string
		c, end := stage(t, "[x look] ", func(line string, out io.Writer) { got = append(got, line); ok(line, out) })
		p := unprivileged(t)
		m := p.Modes["look"]
		m.Quit = ""
		p.Modes["look"] = m
		s, err := Start(context.Background(), p, c, opt)
		require.NoError(t, err)
		began := time.Now()
		require.NoError(t, s.Close())
		assert.Less(t, time.Since(began), time.Second)
		end()
		assert.Equal(t, []string{"pages off"}, got)
	})
}

// A time zone that is not known sets no timer.
func TestATimerInAZoneThatIsNotKnown(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		c, end := stage(t, "[x look] ", ok)
		defer end()
		p := unprivileged(t)
		p.Timer.At, p.Timer.Zone = "HH:MM", "Marrow/Sound"
		s, err := Start(context.Background(), p, c, profile.Options{Log: &keeper{}})
		require.NoError(t, err)
		assert.ErrorContains(t, s.Arm(context.Background(), time.Minute), "Marrow/Sound")
		require.NoError(t, s.Close())
	})
}

func TestBannerBeforeTheFirstPrompt(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		c, end := stage(t, "Welcome [not a prompt] \r\n[x look] ", ok)
		defer end()
		s, err := Start(context.Background(), unprivileged(t), c, profile.Options{Log: &keeper{}})
		require.NoError(t, err)
		assert.Equal(t, "look", s.mode)
		require.NoError(t, s.Close())
	})
}

func TestASilentDeviceCostsATimeoutAndSaysWhatItGot(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		c, end := stage(t, "Welcome\r\nstarting up", ok)
		defer end()
		start := time.Now()
		_, err := Start(context.Background(), unprivileged(t), c, profile.Options{Log: &keeper{}})
		assert.ErrorContains(t, err, `logged in, then no prompt in 10s; last: "starting up"`)
		assert.Equal(t, 10*time.Second, time.Since(start))
	})
}

func TestAnEndlessDeviceIsBounded(t *testing.T) {
	for name, c := range map[string]struct {
		flood func(io.Writer) error
		want  string
	}{
		"a flood of lines": {func(w io.Writer) error { _, err := io.WriteString(w, strings.Repeat("x\n", 4096)); return err }, "printed more than 8 MB"},
		"one endless line": {func(w io.Writer) error { _, err := io.WriteString(w, strings.Repeat("x", 8192)); return err }, "printed more than 8 MB"},
		"a byte a second":  {func(w io.Writer) error { time.Sleep(time.Second); _, err := io.WriteString(w, "x"); return err }, "no prompt in 1m40s although it keeps printing"},
	} {
		t.Run(name, func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				conn, end := stage(t, "[x look] ", func(line string, out io.Writer) {
					if line == "pages off" {
						ok(line, out)
						return
					}
					for c.flood(out) == nil {
					}
				})
				defer end()
				s, err := Start(context.Background(), unprivileged(t), conn, profile.Options{Log: &keeper{}})
				require.NoError(t, err)
				_, err = s.say(context.Background(), "tell clock", nil)
				assert.ErrorContains(t, err, c.want)
				assert.LessOrEqual(t, len(s.out.cur), maxCur)
				s.Close()
			})
		})
	}
}

// Output that looks like a prompt of another name is not taken for one.
func TestAFakePromptIsNotBelieved(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		conn, end := stage(t, "[x look] ", func(line string, out io.Writer) {
			if line != "tell clock" {
				ok(line, out)
				return
			}
			io.WriteString(out, line+"\r\n[evil work] ")
			time.Sleep(50 * time.Millisecond)
			io.WriteString(out, "is what it says\r\n[x look] ")
		})
		defer end()
		s, err := Start(context.Background(), unprivileged(t), conn, profile.Options{Log: &keeper{}})
		require.NoError(t, err)
		got, err := s.say(context.Background(), "tell clock", nil)
		require.NoError(t, err)
		assert.Equal(t, []string{"[evil work] is what it says"}, got)
		assert.Equal(t, "look", s.mode)
		s.Close()
	})
}

// A device that was renamed is believed once its new prompt stands still.
func TestANewNameIsBelievedWhenItStands(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		conn, end := stage(t, "[x look] ", func(line string, out io.Writer) {
			name := "x"
			if line == "name y" {
				name = "y"
			}
			io.WriteString(out, line+"\r\n["+name+" look] ")
		})
		defer end()
		s, err := Start(context.Background(), unprivileged(t), conn, profile.Options{Log: &keeper{}})
		require.NoError(t, err)
		_, err = s.say(context.Background(), "name y", nil)
		require.NoError(t, err)
		assert.Equal(t, "y", s.host)
		s.Close()
	})
}

func TestRefusedWrongModeAndUnclear(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		log := &keeper{}
		conn, end := stage(t, "[x look] ", func(line string, out io.Writer) {
			switch line {
			case "work":
				io.WriteString(out, "work\r\nOperator password: ")
			case "pass-word-1":
				io.WriteString(out, "\r\n[x work] ")
			case "pages off":
				io.WriteString(out, line+"\r\n[x work] ")
			case "tell restart":
				io.WriteString(out, line+"\r\nperhaps\r\n[x work] ")
			case "edit":
				io.WriteString(out, line+"\r\nRefused: pass-word-1 is not for editing\r\n[x work] ")
			default:
				ok(line, out)
			}
		})
		defer end()
		s, err := Start(context.Background(), tern(t), conn, profile.Options{Secrets: map[string]string{"operator": "pass-word-1"}, Log: log})
		require.NoError(t, err)
		_, _, err = s.Pending(context.Background())
		var unclear *driver.Unclear
		assert.ErrorAs(t, err, &unclear)
		var refused *driver.Refused
		assert.ErrorAs(t, s.Edit(context.Background()), &refused)
		assert.NotContains(t, refused.Said, "pass-word-1", "a device that prints our secret back is masked")
		assert.NotContains(t, log.text(), "pass-word-1")
		assert.ErrorAs(t, s.Line(context.Background(), "two\nlines"), &refused, "a line is one line")
		s.Close()
	})
}

// A secret that the device did not like is not sent again, however often it asks:
// each time may count against the account. Another command may send it again.
func TestASecretIsTriedOnce(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		tried := 0
		conn, end := stage(t, "[x look] ", func(line string, out io.Writer) {
			switch line {
			case "work":
				io.WriteString(out, "work\r\nOperator password: ")
			case "pass-word-1":
				tried++
				io.WriteString(out, "\r\nOperator password: ")
			}
		})
		defer end()
		var verdicts []error
		opt := profile.Options{Secrets: map[string]string{"operator": "pass-word-1"}, Log: &keeper{}, Try: func(_ context.Context, secret string) (func(error), error) {
			assert.Equal(t, "operator", secret)
			return func(err error) { verdicts = append(verdicts, err) }, nil
		}}
		_, err := Start(context.Background(), tern(t), conn, opt)
		var f *reach.Failure
		require.ErrorAs(t, err, &f)
		assert.Equal(t, reach.Privileged, f.Stage)
		end()
		assert.Contains(t, f.Cause, `it asks "Operator password: " again`)
		assert.Equal(t, 1, tried)
		require.Len(t, verdicts, 1)
		require.ErrorIs(t, verdicts[0], driver.ErrDenied)

		conn, end = stage(t, "[x look] ", func(line string, out io.Writer) {
			switch line {
			case "work":
				io.WriteString(out, "work\r\nOperator password: ")
			case "look":
				ok(line, out)
			case "pass-word-1":
				tried++
				line = ""
				fallthrough
			default:
				io.WriteString(out, line+"\r\n[x work] ")
			}
		})
		defer end()
		s, err := Start(context.Background(), tern(t), conn, opt)
		require.NoError(t, err)
		require.NoError(t, s.enter(context.Background(), "look"))
		require.NoError(t, s.enter(context.Background(), "work"))
		s.Close()
		end()
		assert.Equal(t, 3, tried)
		assert.Equal(t, []error{nil, nil}, verdicts[1:])
	})
}

func TestAMissingSecretIsNamed(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		conn, end := stage(t, "[x look] ", func(line string, out io.Writer) {
			if line == "work" {
				io.WriteString(out, "work\r\nOperator password: ")
				return
			}
			ok(line, out)
		})
		defer end()
		s, err := Start(context.Background(), unprivileged(t), conn, profile.Options{Log: &keeper{}})
		require.NoError(t, err)
		assert.ErrorContains(t, s.Edit(context.Background()), `no secret named "operator"`)
		s.Close()
	})
}

// Whatever a device does instead of showing its first prompt, it costs bounded
// time and memory, and the failure says what it printed last.
func TestHostileDevicesBeforeTheFirstPrompt(t *testing.T) {
	flood := func(text string, every time.Duration) func(io.Writer) error {
		return func(w io.Writer) error {
			time.Sleep(every)
			_, err := io.WriteString(w, text)
			return err
		}
	}
	for name, c := range map[string]struct {
		print func(io.Writer) error
		want  string
	}{
		"endless line":      {flood(strings.Repeat("x", 32<<10), 0), "printed more than 8 MB"},
		"endless output":    {flood(strings.Repeat("line\r\n", 4096), 0), "printed more than 8 MB"},
		"control sequences": {flood(strings.Repeat("\x1b[2J\x1b]0;owned\x07\x1b[6n", 2048), 0), "printed more than 8 MB"},
		"a byte a second":   {flood("x", time.Second), "no prompt in 1m40s although it keeps printing"},
		"nothing":           {flood("", time.Hour), "no prompt in 10s"},
	} {
		t.Run(name, func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				conn, theirs := pipe.New(64 << 10)
				done := make(chan struct{})
				go func() {
					defer close(done)
					for err := error(nil); err == nil; {
						err = c.print(theirs)
					}
				}()
				began := time.Now()
				s := newSession(tern(t), conn, profile.Options{Log: &keeper{}})
				f := s.begin(context.Background())
				require.NotNil(t, f)
				assert.Equal(t, reach.Prompt, f.Stage)
				assert.ErrorContains(t, f, c.want)
				assert.NotContains(t, f.Error(), "\x1b")
				assert.LessOrEqual(t, time.Since(began), 101*time.Second)
				assert.LessOrEqual(t, len(s.out.cur), maxCur)
				assert.LessOrEqual(t, s.out.size, maxPrinted+(64<<10))
				s.Close()
				<-done
			})
		})
	}
}
