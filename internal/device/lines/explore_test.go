package lines

import (
	"context"
	"fmt"
	"io"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"

	"metabasis/internal/device/profile"
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
			e := &explorer{seen: &Seen{}, who: wary{}}
			e.readConfig(c.first, c.again)
			assert.Len(t, e.seen.Volatile, c.volatile)
			assert.Equal(t, c.layout, e.seen.Layout)
		})
	}
}

// wary is a person who is there to be told, and answers with what stands there.
type wary struct{ Person }

func (wary) Tell(string, bool)                  {}
func (wary) Ask(string, string) (string, error) { return "", nil }

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
		_, err := Explore(ctx, unprivileged(t), "x", c, profile.Options{Log: &keeper{}}, wary{})
		assert.ErrorContains(t, err, "for no reason that can be seen")
	})
}

// What cannot be seen of a device is said in the profile that is drawn of it.
func TestADraftSaysWhatIsNotSeen(t *testing.T) {
	const unseen = "It does not say lines back"
	assert.Contains(t, (&Seen{Echo: profile.EchoNo}).Draft(), unseen)
	assert.NotContains(t, (&Seen{Echo: profile.EchoYes}).Draft(), unseen)
}
