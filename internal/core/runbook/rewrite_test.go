package runbook

import (
	"regexp"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metabasis/internal/core/config"
)

func quayLanguage() *config.Language {
	re := regexp.MustCompile
	port := re(`^port \d+$`)
	return &config.Language{Leave: "up", Takes: re(`^drop `), Rules: []config.Rule{
		{In: port, Line: re(`^lan (\d+)$`), Key: "lan", Away: "drop lan"},
		{Line: re(`^log host [\d.]+$`), Away: "drop $0"},
		{Line: re(`^lan (\d+)$`), Section: true, Away: "drop $0"},
		{Line: port, Section: true, Fixed: true},
	}}
}

// Steps that only put lines there are rewritten; what else stands in the runbook stays,
// remarks too, and what cannot be said so is left with the reason.
func TestAsWant(t *testing.T) {
	flat := &config.Language{Takes: regexp.MustCompile("^clear "), Rules: []config.Rule{{Line: regexp.MustCompile(`^(report host) \S+$`), Put: "set $0", Away: "clear $1", Key: "$1"}}}
	languages := func(platforms []string) []*config.Language {
		if len(platforms) == 1 && platforms[0] == "plover" {
			return []*config.Language{flat}
		}
		return []*config.Language{quayLanguage()}
	}
	out, left, err := AsWant("x", []byte(head+`step "Gates"  # the new ones
  already   when config has "port <<n>> > lan 310" and not config has "port <<n>> > lan 20"
  for       n in 7..9
  send
    | lan 310
    | up
    # each of them
    | port <<n>>
    | lan 310
    | up
  undo
    | port <<n>>
    | drop lan
  expect    clock.settled within 5s

step "Logs"
  on tern
    send
      | log host <<address>>
    undo
      | drop log host <<address>>
  on plover
    already   when config has "report host <<address>>"
    send
      | set report host <<address>>

step "Away"
  send
    | drop log host 192.0.2.1
  undo
    | log host 192.0.2.1

step "Clock"
  already   when clock.settled
  send
    | log host 192.0.2.1
`), languages)
	require.NoError(t, err)
	assert.Equal(t, head+`step "Gates"  # the new ones
  for       n in 7..9
  want
    | lan 310
    # each of them
    | port <<n>>
    |   lan 310
  expect    clock.settled within 5s

step "Logs"
  on tern
    want
      | log host <<address>>
  on plover
    want
      | report host <<address>>

step "Away"
  send
    | drop log host 192.0.2.1
  undo
    | log host 192.0.2.1

step "Clock"
  already   when clock.settled
  send
    | log host 192.0.2.1
`, string(out))
	require.Len(t, left, 2)
	assert.Contains(t, left[0], `step "Away": "drop log host 192.0.2.1" puts nothing there that the language knows`)
	assert.Contains(t, left[1], `step "Clock": its already looks at more than the configuration`)
}
