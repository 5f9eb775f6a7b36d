package safe

import (
	"strings"
	"testing"

	tea "charm.land/bubbletea/v2"
	"github.com/stretchr/testify/assert"
)

// clumsy is a view that stumbles over what it is told to.
type clumsy struct {
	seen    []tea.Msg
	mistake string
}

func (c *clumsy) Init() tea.Cmd { return nil }

func (c *clumsy) Update(msg tea.Msg) (tea.Model, tea.Cmd) {
	if msg == "stumble" {
		var none *clumsy
		none.seen = nil
	}
	c.seen = append(c.seen, msg)
	return c, nil
}

func (c *clumsy) View() tea.View {
	return tea.NewView(strings.Repeat("x", 3-len(c.seen)))
}

func (c *clumsy) Failed(_ tea.Msg, mistake string) tea.Cmd {
	c.mistake = mistake
	return func() tea.Msg { return "on" }
}

func (c *clumsy) Plain() []string { return []string{"The night goes on."} }

func TestAMistakeDoesNotEndIt(t *testing.T) {
	c := &clumsy{}
	m := Guard(c)
	assert.Nil(t, m.Init())
	m, cmd := m.Update("stumble")
	assert.Contains(t, c.mistake, "nil pointer dereference (safe/safe_test.go:")
	assert.Equal(t, "on", cmd(), "what must go on does")
	for range 3 {
		m, _ = m.Update("step")
		assert.NotContains(t, m.View().Content, "mistake")
	}
	m, _ = m.Update("one too many")
	v := m.View()
	assert.Contains(t, v.Content, "▲ Metabasis has made a mistake: this cannot be drawn.")
	assert.Contains(t, v.Content, "strings: negative Repeat count (safe/safe_test.go:")
	assert.Contains(t, v.Content, "The night goes on.")
	assert.True(t, v.AltScreen)
	assert.Len(t, c.seen, 4)
	m, _ = m.Update(tea.KeyPressMsg{Code: tea.KeyEnter})
	assert.Len(t, c.seen, 4, "nothing is answered that cannot be seen")
	_, _ = m.Update(tea.KeyPressMsg{Code: tea.KeyEscape})
	assert.Len(t, c.seen, 5)
}
