package screen

import (
	"testing"

	tea "charm.land/bubbletea/v2"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metabasis/internal/core/run"
	"metabasis/internal/screen/safe"
)

// A mistake in drawing does not end a night: what happens is still taken in, the
// person is told where things stand, and nothing is answered unseen.
func TestAMistakeInDrawingDoesNotEndTheNight(t *testing.T) {
	m, rec := model(t, run.Fold(planned(24, 8), held("ald-quay-3", 1)...), 160, 42)
	broken := true
	m.src.Tail = func(string, int) []string {
		if broken {
			panic("no such tail")
		}
		return nil
	}
	events := make(chan []run.Event, 1)
	m.events = events
	g := safe.Guard(m)
	see := func() string { m.dirty = true; return g.View().Content }
	s := see()
	assert.Contains(t, s, "no such tail (screen/safe_test.go:")
	assert.Contains(t, s, "The night goes on.")
	assert.Contains(t, s, "1 held")
	assert.Contains(t, s, "23 waiting")
	g.Update(tea.KeyPressMsg{Text: "d", Code: 'd'})
	see()
	g.Update(tea.KeyPressMsg{Code: tea.KeyEnter})
	assert.Empty(t, rec.commands)

	_, cmd := g.Update(eventsMsg{{Kind: run.Moved, At: began, Device: "ald-quay-1", State: run.Checking}})
	require.NotNil(t, cmd)
	assert.Equal(t, run.Checking, m.night.Get("ald-quay-1").State)
	close(events)
	assert.Equal(t, overMsg{}, cmd(), "it listens on")

	broken = false
	assert.NotContains(t, see(), "mistake")
	g.Update(tea.KeyPressMsg{Code: tea.KeyEnter})
	assert.Len(t, rec.commands, 1, "the question is seen now, and answered")
}

// A mistake in taking in what happens is said, and the next is taken in.
func TestAMistakeInAKeyIsSaid(t *testing.T) {
	m, _ := model(t, planned(3, 3), 160, 42)
	m.src.Transcript = func(string) ([]string, error) { panic("no such file") }
	g := safe.Guard(m)
	g.Update(tea.KeyPressMsg{Code: tea.KeyEnter})
	assert.Contains(t, text(m), "Metabasis has made a mistake: no such file")
	_, cmd := g.Update(tickMsg(began))
	assert.NotNil(t, cmd)
}
