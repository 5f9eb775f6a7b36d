package lines

import (
	"context"
	"errors"
	"fmt"
	"io"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metabasis/internal/core/config"
	"metabasis/internal/core/driver"
	"metabasis/internal/device/profile"
)

// shellLike is a device with a shell's habits: what it prints is what the test
// says, it fails in silence, and a quote that is not closed wants its rest.
func shellLike(t *testing.T, answers map[string]string, change func(*profile.Profile), then func(ctx context.Context, s *Session, log *keeper)) {
	synctest.Test(t, func(t *testing.T) {
		status, here := "0", ""
		conn, end := stage(t, "[x look] ", func(line string, out io.Writer) {
			if line == "\x03" {
				here = ""
				io.WriteString(out, "^C\r\n[x look] ")
				return
			}
			fmt.Fprintf(out, "%s\r\n", line)
			_, opens, _ := strings.Cut(line, "<<")
			switch {
			case here != "" && line != here, opens != "":
				if opens != "" {
					here = opens
				}
				io.WriteString(out, "> ")
				return
			case here != "":
				here, status = "", "0"
				io.WriteString(out, "[x look] ")
				return
			case strings.Count(line, `"`)%2 == 1:
				io.WriteString(out, "> ")
				return
			}
			switch line {
			case "how":
				fmt.Fprintf(out, "status %s\r\n", status)
			case "false":
				status = "1"
			default:
				status = "0"
			}
			io.WriteString(out, answers[line]+"[x look] ")
		})
		defer end()
		p, log := unprivileged(t), &keeper{}
		p.Config.Edit, p.Connect.Echo = "look", ""
		p.More = profile.Continued{Prompt: profile.MustPattern(`^> $`), Cancel: "^C", Opens: profile.MustPattern(`<<(?P<end>\w+)$`)}
		change(p)
		s, err := Start(context.Background(), p, conn, profile.Options{Log: log})
		require.NoError(t, err)
		then(context.Background(), s, log)
	})
}

// The first pattern that fits a line of an answer counts, the command's own before
// the platform's, what is harmless before what refuses; then done, then silence.
func TestWhatDecides(t *testing.T) {
	refuses := func(p *profile.Profile) {
		p.Refused, p.Harmless = []profile.Pattern{profile.MustPattern(`^No: `)}, []profile.Pattern{profile.MustPattern(`^No: noted$`)}
	}
	answer := func(lines ...string) map[string]string {
		return map[string]string{"go": strings.Join(lines, "\r\n") + "\r\n"}
	}
	own := func(proof profile.Proof) func(*profile.Profile) {
		return func(p *profile.Profile) { refuses(p); p.Lines = []profile.Proof{proof} }
	}
	for name, c := range map[string]struct {
		answers map[string]string
		change  func(*profile.Profile)
		refused bool
		unclear bool
		by      string
	}{
		"nothing against it":              {answer("fine"), refuses, false, false, "nothing in the answer refuses it"},
		"refused":                         {answer("fine", "No: never"), refuses, true, false, "refused: ^No:"},
		"harmless":                        {answer("No: noted"), refuses, false, false, "harmless: ^No: noted$"},
		"harmless, and refused":           {answer("No: noted", "No: never"), refuses, true, false, "refused: ^No:"},
		"refused by its own":              {answer("No: noted"), own(profile.Proof{Refused: []profile.Pattern{profile.MustPattern("noted")}}), true, false, "refused: noted"},
		"harmless by its own":             {answer("No: never"), own(profile.Proof{Harmless: []profile.Pattern{profile.MustPattern("never")}}), false, false, "harmless: never"},
		"done":                            {answer("Done."), own(profile.Proof{Done: profile.MustPattern(`^Done\.$`)}), false, false, `done: ^Done\.$ fits "Done."`},
		"done, but refused":               {answer("Done.", "No: never"), own(profile.Proof{Done: profile.MustPattern(`^Done\.$`)}), true, false, "refused: ^No:"},
		"not done":                        {answer("Perhaps."), own(profile.Proof{Done: profile.MustPattern(`^Done\.$`)}), false, true, "fits no line of the answer"},
		"silent":                          {nil, own(profile.Proof{Silent: true}), false, false, "silent: it answers nothing"},
		"not silent":                      {answer("usage: go"), own(profile.Proof{Silent: true}), true, false, "a good line is answered by nothing"},
		"silent but for what is harmless": {answer("No: noted"), own(profile.Proof{Silent: true}), false, false, "silent: it answers nothing"},
		"another line's proof":            {answer("usage: go"), own(profile.Proof{Match: profile.MustPattern(`^stop`), Silent: true}), false, false, "nothing in the answer refuses it"},
	} {
		shellLike(t, c.answers, c.change, func(ctx context.Context, s *Session, _ *keeper) {
			err := s.Line(ctx, "go")
			var r *driver.Refused
			var u *driver.Unclear
			switch {
			case c.refused:
				assert.ErrorAs(t, err, &r, name)
			case c.unclear:
				assert.ErrorAs(t, err, &u, name)
			default:
				assert.NoError(t, err, name)
			}
			assert.Contains(t, s.decided, c.by, name)
			assert.NoError(t, s.Close(), name)
		})
	}
}

func TestStatusOfEachLine(t *testing.T) {
	shellLike(t, nil, func(p *profile.Profile) {
		p.Lines = []profile.Proof{{Status: profile.Status{Send: "how", Good: profile.MustPattern(`^status 0$`)}}}
	}, func(ctx context.Context, s *Session, _ *keeper) {
		require.NoError(t, s.Line(ctx, "true"))
		err := s.Line(ctx, "false")
		var r *driver.Refused
		require.ErrorAs(t, err, &r)
		assert.Contains(t, r.Said, "status 1")
		require.NoError(t, s.Line(ctx, "true"))
	})
}

// A device that is gone when it is asked how a line went is gone: that is no word on the line.
func TestADeviceThatIsGoneWhenAskedHowItWent(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		conn, end := stage(t, "[x look] ", func(line string, out io.Writer) {
			if line == "how" {
				out.(io.Closer).Close()
				return
			}
			ok(line, out)
		})
		defer end()
		p := unprivileged(t)
		p.Config.Edit = "look"
		p.Lines = []profile.Proof{{Status: profile.Status{Send: "how", Good: profile.MustPattern(`^status 0$`)}}}
		s, err := Start(context.Background(), p, conn, profile.Options{Log: &keeper{}})
		require.NoError(t, err)
		err = s.Line(context.Background(), "go")
		var r *driver.Refused
		var u *driver.Unclear
		assert.False(t, errors.As(err, &r) || errors.As(err, &u), "%v", err)
		assert.ErrorContains(t, err, "the session ended")
	})
}

// A line that is not complete is called off; a text of several lines goes on until
// its last one, and nothing else is taken for its end.
func TestLinesThatGoOn(t *testing.T) {
	shellLike(t, nil, func(p *profile.Profile) {
		p.Lines = []profile.Proof{{Status: profile.Status{Send: "how", Good: profile.MustPattern(`^status 0$`)}}}
	}, func(ctx context.Context, s *Session, log *keeper) {
		var r *driver.Refused
		began := time.Now()
		require.ErrorAs(t, s.Line(ctx, `echo "not closed`), &r)
		assert.Contains(t, r.Said, "something in it is not closed; it was called off")
		assert.Less(t, time.Since(began), time.Second, "it is a question, not silence")
		require.NoError(t, s.Line(ctx, "true"))

		for _, l := range []string{"cat <<END", "one", `with a " in it`, "END"} {
			require.NoError(t, s.Line(ctx, l), l)
		}
		require.NoError(t, s.Apply(ctx, 0))
		assert.Nil(t, s.here)

		// A step that ends in the midst of a text is no step.
		require.NoError(t, s.Line(ctx, "cat <<END"))
		require.ErrorAs(t, s.Apply(ctx, 0), &r)
		require.NoError(t, s.Line(ctx, "true"), "the shell is itself again")

		// Nor is one that is given up in the midst of a text.
		require.NoError(t, s.Line(ctx, "cat <<END"))
		require.NoError(t, s.Drop(ctx))
		assert.Nil(t, s.here)
		require.NoError(t, s.Line(ctx, "true"), "it is no part of that text")
		assert.Contains(t, log.text(), "calling off a line that is not complete")
	})
}

// What says that there is nothing is no refusal, even where it looks like one.
func TestNothingThere(t *testing.T) {
	reader := profile.Reader{Command: profile.Command{In: "look", Send: "near"}, Row: profile.MustPattern(`^(?P<name>\w+)$`), None: profile.MustPattern(`^Refused: nobody is near$`),
		Columns: map[string]profile.Column{"name": {Type: "text"}}}
	for answer, want := range map[string]any{"Refused: nobody is near\r\n": []map[string]any{}, "gull\r\n": []map[string]any{{"name": "gull"}}, "Refused: not now\r\n": nil} {
		shellLike(t, map[string]string{"near": answer}, func(p *profile.Profile) { p.Readers = map[string]profile.Reader{"near": reader} }, func(ctx context.Context, s *Session, _ *keeper) {
			got, err := s.Read(ctx, "near")
			if want == nil {
				var r *driver.Refused
				assert.ErrorAs(t, err, &r)
				return
			}
			assert.NoError(t, err)
			assert.Equal(t, want, got)
		})
	}
}

// What makes up what runs is read together, and put back without what is beside it.
func TestPartsAreReadTogether(t *testing.T) {
	shellLike(t, map[string]string{"tell running": "route a\r\n# end of configuration\r\n", "tell saved": "route a\r\n# end of configuration\r\n", "daemon": "quays up\r\n"}, func(p *profile.Profile) {
		p.Config.Running.In, p.Config.Saved.In = "look", "look"
		p.Config.Also = []profile.Part{{Name: "daemon", Command: profile.Command{In: "look", Send: "daemon"}}}
	}, func(ctx context.Context, s *Session, _ *keeper) {
		runs, err := s.Config(ctx, driver.Running)
		require.NoError(t, err)
		saved, err := s.Config(ctx, driver.Saved)
		require.NoError(t, err)
		style := config.Style{Layout: "flat"}
		assert.True(t, config.Equal(config.Parse(runs, style), config.Parse(saved, style)))
		assert.Equal(t, saved, config.Alone(runs))
		assert.Contains(t, runs, "quays up")
	})
}
