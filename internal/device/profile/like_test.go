package profile

import (
	"os"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metabasis/internal/core/plan"
)

func sourcesWith(t *testing.T, own ...string) Sources {
	t.Helper()
	var s Sources
	for _, name := range []string{"tern", "plover"} {
		data, err := os.ReadFile("../../../profiles/" + name + ".yaml")
		require.NoError(t, err)
		s.Shipped = append(s.Shipped, Source{name + ".yaml", data})
	}
	for i, text := range own {
		s.Own = append(s.Own, Source{string(rune('a'+i)) + ".yaml", []byte(text)})
	}
	return s
}

func TestLike(t *testing.T) {
	set, err := sourcesWith(t, `platform: sandpiper
like: tern
title: sandpiper, a tern without a timer
connect: {prompt_within: 30s}
refused: ['^Nay: (.*)$']
timer: {kind: none}
save: ~
readers:
  clock:
    columns:
      offset: ~
  routes: ~
`).Set()
	require.NoError(t, err)
	tern, p := set["tern"], set["sandpiper"]
	assert.Equal(t, "30s", p.Connect.Prompt.String())
	assert.Equal(t, SSH, p.Connect.Protocol)
	assert.Equal(t, tern.Modes["work"].Enter.Send, p.Modes["work"].Enter.Send)
	assert.Len(t, p.Refused, 1, "a list is replaced")
	assert.Empty(t, p.Save.Send, "what is null is taken away")
	assert.NotEmpty(t, tern.Save.Send)
	assert.Equal(t, []string{"time", "source", "settled"}, p.Readers["clock"].Order())
	assert.NotContains(t, p.Readers, "routes")
	assert.Contains(t, p.Readers, "ports")
	assert.Equal(t, plan.NoTimer, p.Traits().Timer)
	assert.NotContains(t, p.Touches(), "a rollback timer armed and disarmed")

	// One's own tern can be like the shipped one, and another like that.
	set, err = sourcesWith(t, "platform: tern\nlike: tern\ntitle: ours\n", "platform: knot\nlike: tern\nconnect: {port: 2222}\n").Set()
	require.NoError(t, err)
	assert.Equal(t, "ours", set["tern"].Title)
	assert.Equal(t, "ours", set["knot"].Title)
	assert.Equal(t, 2222, set["knot"].Connect.Port)
}

// What is put together is read as it was written, whatever characters are in it.
func TestLikeKeepsEveryCharacter(t *testing.T) {
	set, err := sourcesWith(t, "platform: a\nlike: tern\nquote: {key: ^V, characters: \"?\\t\"}\nharmless: ['^: - # {\"x\"}', \"^a'b<<c>>\"]\n", "platform: b\nlike: a\n").Set()
	require.NoError(t, err)
	for _, name := range []string{"a", "b"} {
		p := set[name]
		assert.Equal(t, "?\t", p.Quote.Characters)
		assert.Equal(t, `^: - # {"x"}`, p.Harmless[0].String())
		assert.Equal(t, `^a'b<<c>>`, p.Harmless[1].String())
		p.Platform, p.Like, p.Title = "tern", "", set["tern"].Title
		assert.Equal(t, set["tern"].Modes, p.Modes)
		assert.Equal(t, set["tern"].Readers, p.Readers)
	}
}

func TestLikeGoneWrong(t *testing.T) {
	for name, c := range map[string]struct {
		own  []string
		want string
	}{
		"no such":        {[]string{"platform: a\nlike: trn\n"}, `there is no other profile of "trn"; write: tern`},
		"itself":         {[]string{"platform: a\nlike: a\n"}, `there is no other profile of "a"`},
		"in a circle":    {[]string{"platform: a\nlike: b\n", "platform: b\nlike: a\n"}, `there is no other profile of "`},
		"unknown entry":  {[]string{"platform: a\nlike: tern\nrefusd: [x]\n"}, `a.yaml:3:1: unknown field "refusd"`},
		"a mistake here": {[]string{"platform: a\nlike: tern\nsave:\n  in: wrok\n"}, "a.yaml:4:7: save.in: there is no mode \"wrok\""},
		"taken away":     {[]string{"platform: a\nlike: tern\nsave: ~\n"}, "save: the command is missing"},
		"two of one":     {[]string{"platform: a\nlike: tern\n", "platform: a\nlike: plover\n"}, "there is a profile of a already, in a.yaml"},
	} {
		_, err := sourcesWith(t, c.own...).Set()
		assert.ErrorContains(t, err, c.want, name)
	}
	_, err := Load("a.yaml", []byte("platform: a\nlike: tern\n"))
	assert.ErrorContains(t, err, "not at hand")
}
