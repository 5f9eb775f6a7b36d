package lines

import (
	"context"
	"errors"
	"io"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metabasis/internal/core/driver"
	"metabasis/internal/core/reach"
	"metabasis/internal/device/profile"
)

// gate plays a plover; told changes what it answers to a line.
func gate(told map[string]string) func(string, io.Writer) {
	asking := ""
	mark := ": "
	return func(line string, out io.Writer) {
		line = strings.Trim(line, "\r")
		if a, ok := told[line]; ok {
			if asking == "" || asking == "in" { // what answers a hidden question is not shown
				io.WriteString(out, line)
			}
			io.WriteString(out, "\r\n"+a)
			return
		}
		switch {
		case asking == "" && line == "gates":
			asking = "word"
			io.WriteString(out, line+"\r\nWord? ")
		case asking == "word":
			asking = "in"
			io.WriteString(out, "\r\ngate"+mark)
		case line == "master":
			asking = "master"
			io.WriteString(out, line+"\r\nMaster word? ")
		case asking == "master":
			asking, mark = "in", "! "
			io.WriteString(out, "\r\ngate"+mark)
		case line == "plain":
			mark = ": "
			io.WriteString(out, line+"\r\ngate"+mark)
		case line == "zzyzx":
			io.WriteString(out, line+"\r\n? zzyzx\r\ngate"+mark)
		case strings.HasPrefix(line, "list"):
			io.WriteString(out, line+"\r\nname gate\r\ngate"+mark)
		default:
			io.WriteString(out, line+"\r\ngate"+mark)
		}
	}
}

func dialogue(log profile.Transcript) profile.Options {
	return profile.Options{User: "gates", Secrets: map[string]string{"password": "tide-table", "master": "slow-turn"}, Log: log, Dialogue: true, Translates: true}
}

func TestTheLoginDialogue(t *testing.T) {
	for name, c := range map[string]struct {
		first string
		told  map[string]string
		stage reach.Stage
		want  string
	}{
		"let in":              {"GATE\r\nName? ", nil, -1, ""},
		"denied in words":     {"GATE\r\nName? ", map[string]string{"tide-table": "Not known here.\r\nName? "}, reach.Login, "login is denied"},
		"asked again":         {"GATE\r\nName? ", map[string]string{"tide-table": "Name? "}, reach.Login, "login is denied"},
		"another question":    {"GATE\r\nWho goes there? ", nil, reach.Login, `asks for no login that its profile knows; last: "Who goes there? "`},
		"silent after it":     {"GATE\r\nName? ", map[string]string{"tide-table": ""}, reach.Login, "took the password, then silent for 15s"},
		"an unknown prompt":   {"GATE\r\nName? ", map[string]string{"tide-table": "gate at your service> "}, reach.Prompt, `last: "gate at your service> "`},
		"wrong master's word": {"GATE\r\nName? ", map[string]string{"slow-turn": "? no\r\ngate: "}, reach.Privileged, "check the secret of mode master"},
		"no end":              {"GATE\r\n" + strings.Repeat("x", 1<<20), nil, reach.Login, "asks for no login"},
	} {
		t.Run(name, func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				log := &keeper{}
				c2, end := stage(t, c.first, gate(c.told))
				defer end()
				s, err := Start(context.Background(), shipped(t, "plover"), c2, dialogue(log))
				if c.want == "" {
					require.NoError(t, err)
					assert.Equal(t, "gate", s.Host())
					s.Close()
				} else {
					var f *reach.Failure
					require.ErrorAs(t, err, &f)
					assert.Equal(t, c.stage, f.Stage, f.Error())
					assert.Contains(t, f.Error(), c.want)
					assert.Equal(t, strings.Contains(c.want, "denied"), errors.Is(err, driver.ErrDenied))
				}
				for _, secret := range []string{"tide-table", "slow-turn"} {
					assert.NotContains(t, log.text(), secret)
				}
			})
		})
	}
}

// A profile whose patterns do not fit the device says which, what came, and
// what it knows.
func TestTryNamesWhatDoesNotFit(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		conn, end := stage(t, "GATE\r\nName? ", gate(map[string]string{"zzyzx": "WHAT?\r\ngate: ", "list clock": "TIME  noon\r\ngate! ", "list gates": "GATE STATE\r\nnone here\r\ngate! "}))
		defer end()
		var bad []string
		n := Try(context.Background(), shipped(t, "plover"), conn, dialogue(&keeper{}), false, func(f Finding) {
			if f.Not != "" {
				bad = append(bad, f.Line+": "+f.Not)
			}
		})
		text := strings.Join(bad, "\n")
		assert.Equal(t, len(bad), n)
		assert.Contains(t, text, "refused: no pattern under refused fits")
		assert.Contains(t, text, `readers.clock: column time: "noon" is not a time as in RFC 3339; it printed: TIME  noon`)
		assert.Contains(t, text, "readers.gates: no line fits its row; it printed: none here")
		assert.NotContains(t, text, "modes")
	})
}

// A prompt that no pattern fits ends the trial, with what stands there and what
// was looked for.
func TestTryWithAWrongPrompt(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		conn, end := stage(t, "GATE\r\nName? ", gate(map[string]string{"master": "gate* "}))
		defer end()
		var last Finding
		Try(context.Background(), shipped(t, "plover"), conn, dialogue(&keeper{}), false, func(f Finding) { last = f })
		assert.Equal(t, "modes.master.enter", last.Line)
		assert.Contains(t, last.Not, "no prompt in 15s")
		assert.Contains(t, last.Not, `the prompts it knows are master ^(?P<host>\S+)! $, plain`)
		assert.Contains(t, strings.Join(last.Got, "|"), "gate* ")
	})
}

// Without leave to change anything, nothing is sent that could: edit mode is not
// entered and no timer is armed.
func TestTryChangesNothing(t *testing.T) {
	for _, change := range []bool{false, true} {
		synctest.Test(t, func(t *testing.T) {
			var sent []string
			mode := "look"
			conn, end := stage(t, "[x look] ", func(line string, out io.Writer) {
				sent = append(sent, line)
				switch line {
				case "work", "look", "edit":
					mode = line
				case "done":
					mode = "work"
				case "op":
					mode = "work"
				}
				said := ""
				switch {
				case line == "work":
					io.WriteString(out, "work\r\nOperator password: ")
					return
				case line == "zzyzx":
					said = "Refused: zzyzx\r\n"
				case line == "restart in 600 s":
					said = "Restart due at 02:00:00, in 600 s, with the saved configuration.\r\n"
				case line == "restart cancel":
					said = "Restart cancelled.\r\n"
				case line == "tell restart":
					said = "No restart is pending.\r\n"
					if len(sent) > 1 && sent[len(sent)-2] == "restart in 600 s" {
						said = "Restart due at 02:00:00, in 600 s, with the saved configuration.\r\n"
					}
				}
				io.WriteString(out, line+"\r\n"+said+"[x "+mode+"] ")
			})
			defer end()
			Try(context.Background(), shipped(t, "tern"), conn, profile.Options{Log: &keeper{}, Secrets: map[string]string{"operator": "op"}}, change, func(Finding) {})
			end()
			text := strings.Join(sent, "\n")
			for _, line := range []string{"edit", "restart in 600 s", "restart cancel"} {
				assert.Equal(t, change, strings.Contains(text, line), line)
			}
			assert.NotContains(t, text, "keep")
		})
	}
}

// Asking sends what is known to change nothing, and nothing else.
func TestAsk(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		var sent []string
		conn, end := stage(t, "[x look] ", func(line string, out io.Writer) {
			sent = append(sent, line)
			ok(line, out)
		})
		defer end()
		p := unprivileged(t)
		p.Ask.In = "look"
		s, err := Start(context.Background(), p, conn, profile.Options{Log: &keeper{}})
		require.NoError(t, err)
		sent = nil
		_, err = s.Ask(context.Background(), "tell clock", false)
		assert.NoError(t, err)
		var refused *driver.Refused
		for _, c := range []string{"edit", "tell clock; edit", "restart", "tell\nclock"} {
			_, err = s.Ask(context.Background(), c, false)
			assert.ErrorAs(t, err, &refused, c)
		}
		_, err = s.Ask(context.Background(), "restart now", true)
		assert.ErrorAs(t, err, &refused, "never is never")
		_, err = s.Ask(context.Background(), "dance", true)
		assert.NoError(t, err)
		assert.Equal(t, []string{"tell clock", "dance"}, sent)
		s.Close()
	})
}

// A console's session is recorded as the device shows it; what is typed and not
// shown, such as a password, is not.
func TestAConsoleIsRecorded(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		conn, end := stage(t, "GATE\r\nName? ", gate(map[string]string{"list pass": "the word is tide-table\r\ngate: "}))
		defer end()
		log := &keeper{}
		opt := dialogue(log)
		opt.Gently = true
		raw, err := StartRaw(context.Background(), shipped(t, "plover"), conn, opt)
		require.NoError(t, err)
		shown := make(chan string)
		go func() {
			b, _ := io.ReadAll(raw)
			shown <- string(b)
		}()
		for _, l := range []string{"list pass", "master", "never-shown"} {
			_, err = io.WriteString(raw, l+"\n")
			require.NoError(t, err)
			time.Sleep(time.Second)
			assert.Equal(t, l == "master", raw.Offer() == "master", "what is asked for and known is offered")
		}
		require.NoError(t, raw.Close())
		text := log.text()
		assert.Contains(t, <-shown, "tide-table", "the person sees what the device says")
		assert.Contains(t, text, "gate: list pass")
		assert.Contains(t, text, "the word is ▒▒▒▒", "the record does not hold it")
		assert.NotContains(t, text, "never-shown")
		assert.Contains(t, text, "console closed")
		assert.Contains(t, text, "> gate: bye", "it is left properly: %s", text)
	})
}

// Where the device asks for a secret that is known, it is sent when the person says so: once,
// and not where it was refused elsewhere. It is not recorded.
func TestAConsoleSendsWhatIsKnown(t *testing.T) {
	for name, refused := range map[string]error{"known": nil, "refused elsewhere": errors.New("refused by three")} {
		synctest.Test(t, func(t *testing.T) {
			conn, end := stage(t, "GATE\r\nName? ", gate(nil))
			defer end()
			log := &keeper{}
			opt := dialogue(log)
			var verdicts []error
			opt.Try = func(context.Context, string) (func(error), error) {
				return func(err error) { verdicts = append(verdicts, err) }, refused
			}
			raw, err := StartRaw(context.Background(), shipped(t, "plover"), conn, opt)
			require.NoError(t, err)
			go func() { _, _ = io.Copy(io.Discard, raw) }()
			assert.NoError(t, raw.Give(), "nothing is asked for")
			_, err = io.WriteString(raw, "master\n")
			require.NoError(t, err)
			synctest.Wait()
			require.Equal(t, "master", raw.Offer(), name)
			if err := raw.Give(); refused != nil {
				assert.ErrorIs(t, err, refused)
				assert.Equal(t, "master", raw.Offer())
			} else {
				assert.NoError(t, err)
				synctest.Wait()
				assert.Empty(t, raw.Offer())
				assert.Equal(t, []error{nil}, verdicts, "it was let in")
			}
			require.NoError(t, raw.Close())
			assert.NotContains(t, log.text(), "slow-turn")
		})
	}
}
