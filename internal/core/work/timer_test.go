package work

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"
)

func TestWhatIsKnownOfATimer(t *testing.T) {
	at := func(s int) time.Time { return time.Unix(int64(1000+s), 0) }
	type look struct {
		left       time.Duration
		pending    bool
		asked, now int
	}
	const untold = -time.Second
	for name, c := range map[string]struct {
		looks []look
		want  timer
	}{
		"none":                      {[]look{{0, false, 0, 1}}, timer{}},
		"told":                      {[]look{{time.Minute, true, 0, 2}}, timer{due: at(62), slack: 2 * time.Second}},
		"told again":                {[]look{{time.Minute, true, 0, 2}, {50 * time.Second, true, 12, 13}}, timer{due: at(63), slack: time.Second}},
		"gone":                      {[]look{{time.Minute, true, 0, 2}, {0, false, 12, 13}}, timer{}},
		"about to go":               {[]look{{0, true, 0, 2}}, timer{due: at(2), slack: 2 * time.Second}},
		"never told":                {[]look{{untold, true, 0, 2}}, timer{due: at(2), untold: true}},
		"never told, asked again":   {[]look{{untold, true, 0, 2}, {untold, true, 10, 12}}, timer{due: at(2), untold: true}},
		"told once, and not again":  {[]look{{time.Minute, true, 0, 2}, {untold, true, 10, 12}}, timer{due: at(62), slack: 2 * time.Second}},
		"told at last":              {[]look{{untold, true, 0, 2}, {time.Minute, true, 10, 12}}, timer{due: at(72), slack: 2 * time.Second}},
		"never told, and gone then": {[]look{{untold, true, 0, 2}, {0, false, 10, 12}}, timer{}},
	} {
		var got timer
		for _, l := range c.looks {
			got.saw(l.left, l.pending, at(l.asked), at(l.now))
		}
		assert.Equal(t, c.want, got, name)
		assert.Equal(t, !c.want.due.IsZero(), got.pends(), name)
	}
}

// What may be pending is never taken for due earlier than it is known to be.
func TestWhatIsAssumedOfATimer(t *testing.T) {
	at := func(s int) time.Time { return time.Unix(int64(1000+s), 0) }
	got := timer{due: at(90), slack: time.Second}
	got.assume(at(60))
	assert.Equal(t, timer{due: at(90)}, got)
	got.assume(at(120))
	assert.Equal(t, timer{due: at(120)}, got)
	assert.True(t, got.covers(20*time.Second, at(100)))
	assert.False(t, got.covers(20*time.Second+1, at(100)))
	none := timer{}
	assert.False(t, none.covers(time.Second, at(0)), "none covers nothing")
}

// One timer, told of twice by a device that takes its time and rounds, is not taken for
// another; one that was set anew, by more than that, is.
func TestOneTimerIsNotTwo(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		begun, due := time.Unix(1000, 0), time.Unix(1000+int64(rapid.IntRange(200, 900).Draw(t, "due")), 0)
		look := func(from time.Time, off time.Duration) timer {
			var got timer
			took := time.Duration(rapid.IntRange(0, 9000).Draw(t, "took")) * time.Millisecond
			said := from.Add(time.Duration(rapid.Float64Range(0, 1).Draw(t, "when") * float64(took))) // it is right at some moment meanwhile
			left := due.Add(off).Sub(said).Truncate(time.Second)
			got.saw(left, true, from, from.Add(took))
			return got
		}
		was := look(begun, 0)
		now := look(begun.Add(time.Minute), 0)
		if now.another(was) {
			t.Fatalf("one timer, due %s: told as %s and %s", due, was.due, now.due)
		}
		moved := look(begun.Add(time.Minute), 30*time.Second)
		if !moved.another(was) {
			t.Fatalf("it was set anew, 30 s later, and nobody noticed: %s and %s", was.due, moved.due)
		}
	})
}
