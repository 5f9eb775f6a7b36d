package lines

import (
	"context"
	"fmt"
	"io"
	"slices"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metabasis/internal/device/profile"
	"metabasis/internal/person"
)

// What differs between two readings of a configuration changes by itself. Two that are not of
// one length say nothing of single lines.
func TestWhatChangesByItselfIsSeen(t *testing.T) {
	for name, c := range map[string]struct {
		first, again []string
		volatile     int
		layout       string
	}{
		"nothing":           {[]string{"name a", "port 1"}, []string{"name a", "port 1"}, 0, "flat"},
		"the time":          {[]string{"# written 10:00:01", "name a"}, []string{"# written 10:00:02", "name a"}, 1, "flat"},
		"of another length": {[]string{"# written 10:00:01", "name a"}, []string{"# written 10:00:02"}, 0, "flat"},
		"indented":          {[]string{"port 1", "  shut"}, []string{"port 1", "  shut"}, 0, "indented"},
	} {
		t.Run(name, func(t *testing.T) {
			e := &explorer{seen: &Seen{}, who: wary, tell: untold}
			e.readConfig(c.first, c.again)
			assert.Len(t, e.seen.Volatile, c.volatile)
			assert.Equal(t, c.layout, e.seen.Layout)
		})
	}
}

// saying is a person who says the same to every question.
func saying(word string) person.Person {
	return person.Func(func(_ context.Context, f person.Form) ([]string, error) {
		return slices.Repeat([]string{word}, len(f.Questions)), nil
	})
}

// wary is a person who is there to be told, and answers with what stands there.
var wary = saying("")

func untold(string, bool) {}

// A device whose prompt changes for no reason is not understood, and that is said: a profile
// drawn from it would wait for a prompt that never comes.
func TestAPromptThatChangesForNoReason(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		n := 0
		c, end := stage(t, "x 1> ", func(line string, out io.Writer) {
			n++
			fmt.Fprintf(out, "%s\r\nwhat?\r\nx %d> ", line, n+1)
		})
		defer end()
		ctx, cancel := context.WithTimeout(context.Background(), 5*time.Minute)
		defer cancel()
		_, err := Explore(ctx, unprivileged(t), "x", c, profile.Options{Log: &keeper{}}, wary, untold)
		assert.ErrorContains(t, err, "for no reason that can be seen")
	})
}

// What cannot be seen of a device is said in the profile that is drawn of it.
func TestADraftSaysWhatIsNotSeen(t *testing.T) {
	const unseen = "It does not say lines back"
	assert.Contains(t, (&Seen{Echo: profile.EchoNo}).Draft(), unseen)
	assert.NotContains(t, (&Seen{Echo: profile.EchoYes}).Draft(), unseen)
}

// The name of a device is looked for in its prompt: by the fleet's name, else by what the
// person says, as long as it stands there.
func TestTheNameInAPrompt(t *testing.T) {
	for name, c := range map[string]struct{ prompt, device, say, want string }{
		"the fleet's name":          {"ald-1> ", "ald-1", "", "ald-1"},
		"what the person says":      {"box7> ", "ald-1", "box7", "box7"},
		"what does not stand there": {"box7> ", "ald-1", "box8", ""},
		"none":                      {"> ", "ald-1", "", ""},
	} {
		m := &seenMode{prompt: c.prompt}
		e := &explorer{seen: &Seen{Device: c.device}, ctx: context.Background(), who: saying(c.say), tell: untold}
		e.seen.Login = *m
		require.NoError(t, e.nameIn(&e.seen.Login), name)
		assert.Equal(t, c.want, e.seen.Login.host, name)
	}
}

// A login in the session is answered by the questions that are usual, and what was asked is
// seen; one that is asked again and again was not taken.
func TestALoginInTheSessionIsSeen(t *testing.T) {
	for name, c := range map[string]struct {
		then []string // what it prints, line by line
		want string   // the error; "" is let in
		seen int
	}{
		"let in":      {[]string{"word: ", "x> "}, "", 2},
		"not let in":  {[]string{"word: ", "name: ", "word: ", "name: ", "word: "}, "it asks for the login again", 4},
		"no question": {nil, "", 0},
	} {
		synctest.Test(t, func(t *testing.T) {
			first, n := "name: ", 0
			if c.then == nil {
				first = "x> "
			}
			conn, end := stage(t, first, func(_ string, out io.Writer) {
				io.WriteString(out, "\r\n"+c.then[min(n, len(c.then)-1)])
				n++
			})
			defer end()
			p := unprivileged(t)
			p.Connect.Login = []profile.Answer{{Question: profile.MustPattern("^name: $"), Send: "<<user>>"}, {Question: profile.MustPattern("^word: $"), Secret: "word"}}
			s := newSession(p, conn, profile.Options{User: "crew", Log: &keeper{}, Secrets: map[string]string{"word": "tide"}})
			e := &explorer{ctx: context.Background(), s: s, seen: &Seen{}, who: wary, tell: untold}
			err := e.dialogue()
			if c.want == "" {
				assert.NoError(t, err, name)
			} else {
				assert.ErrorContains(t, err, c.want, name)
			}
			assert.Len(t, e.seen.Connect.Login, c.seen, name)
			require.NoError(t, s.Close())
		})
	}
}
