package problem

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestProblemPointsAtItsWord(t *testing.T) {
	p := Problem{File: "a.runbook", Line: 3, Col: 5, Text: "  \tréachabel", Msg: "unknown precheck", Hint: "reachable"}
	assert.Equal(t, "a.runbook:3:5: unknown precheck\n       réachabel\n        ^\n  write: reachable\n", p.String())
	assert.Equal(t, "a.runbook:3:5: unknown precheck; write: reachable", p.Error())
}

func TestListIsSortedAndNilWhenEmpty(t *testing.T) {
	assert.NoError(t, List(nil).Err())
	l := List{{File: "b", Line: 1, Msg: "x"}, {File: "a", Line: 9, Msg: "y"}, {File: "a", Line: 2, Col: 4, Msg: "z"}}
	assert.EqualError(t, l.Err(), "a:2:4: z\na:9: y\nb:1: x")
}

func TestNearest(t *testing.T) {
	words := []string{"reachable", "clock", "saved", "storage"}
	for given, want := range map[string]string{
		"reachabel": "reachable", "Clock": "clock", "save": "saved", "neighbours": "", "": "",
	} {
		assert.Equal(t, want, Nearest(given, words), given)
	}
	assert.Equal(t, "one of a, b", OneOf("zzz", []string{"a", "b"}))
}

// What is wrong for each of many devices is told once, in the order of places.
func TestEachProblemOnce(t *testing.T) {
	a, b := Problem{File: "x.runbook", Line: 16, Msg: "there is no night 1"}, Problem{File: "x.runbook", Line: 16, Msg: "another"}
	first := Problem{File: "x.runbook", Line: 2, Msg: "before"}
	assert.Equal(t, List{first, a, b}, List{a, b, a, first, b, a}.Err())
}
