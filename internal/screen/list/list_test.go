package list

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"

	"metabasis/internal/screen/ink"
)

// Whatever is done, the cursor stands on a row on which it may stand, that row is in
// sight, what is drawn fits, and nothing moves that need not.
func TestTheCursorIsInSight(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		n := rapid.IntRange(0, 60).Draw(t, "rows")
		headings := rapid.IntRange(2, 9).Draw(t, "headings")
		l := &List{Len: func() int { return n }, Pick: func(i int) bool { return i%headings != 0 },
			Draw: func(i int, here bool, cells int) ink.Row { return ink.T(ink.Foam, fmt.Sprint(i)) }}
		height := rapid.IntRange(3, 20).Draw(t, "height")
		l.To(0)
		for range rapid.IntRange(1, 20).Draw(t, "moves") {
			before := l.top
			l.Rows(40, height)
			switch rapid.IntRange(0, 5).Draw(t, "what") {
			case 0:
				l.Move(rapid.IntRange(-9, 9).Draw(t, "by"))
			case 1:
				l.To(rapid.IntRange(-3, 70).Draw(t, "to"))
			case 2:
				l.Click(rapid.IntRange(-1, 25).Draw(t, "y"))
			case 3:
				height = rapid.IntRange(3, 20).Draw(t, "height")
			case 4:
				n = rapid.IntRange(0, 60).Draw(t, "rows")
			case 5:
				l.Wheel(3)
			}
			rows := l.Rows(40, height)
			if len(rows) > height {
				t.Fatalf("%d rows in %d", len(rows), height)
			}
			if n <= 1 { // a heading alone
				continue
			}
			if !l.can(l.Cursor) {
				t.Fatalf("the cursor is on row %d of %d", l.Cursor, n)
			}
			seen := 0
			for _, r := range rows {
				if r.Marked {
					seen++
					assert.Equal(t, fmt.Sprint(l.Cursor), r.Text())
				}
			}
			if seen != 1 {
				t.Fatalf("the cursor is seen %d times: top %d before %d", seen, l.top, before)
			}
		}
	})
}

// Steps go one by one, past headings, and stop at the ends.
func TestMoving(t *testing.T) {
	l := &List{Len: func() int { return 7 }, Pick: func(i int) bool { return i != 0 && i != 3 },
		Draw: func(i int, _ bool, _ int) ink.Row { return ink.T(ink.Foam, fmt.Sprint(i)) }}
	var at []int
	l.To(0)
	for range 6 {
		at = append(at, l.Cursor)
		l.Move(1)
	}
	assert.Equal(t, []int{1, 2, 4, 5, 6, 6}, at)
	l.Move(-100)
	assert.Equal(t, 1, l.Cursor)
}
