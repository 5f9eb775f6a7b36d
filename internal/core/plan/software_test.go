package plan

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metabasis/internal/core/config"
	"metabasis/internal/core/fleet"
	"metabasis/internal/core/runbook"
	"metabasis/internal/core/software"
)

const upgradeBook = `runbook "New software"
  window    now for 2h

scope
  true

timer       none

step "New software"
  software  "5.0"
  back      within 9m
  may change "log host *", "lan * > title *"

step "Collector"
  send
    | log host 192.0.2.1
  undo
    | drop log host 192.0.2.1
`

func upgradeTraits() Traits {
	images := []software.Image{{Version: "4.8", From: []string{"4.2"}, File: "a-4.8.img", SHA256: "x"}, {Version: "5.0", From: []string{"4.8"}, File: "a-5.0.img", SHA256: "y", Restart: 3 * time.Minute}}
	return Traits{Connect: time.Second, Command: time.Second, Restarts: &Restarts{Usual: time.Minute, Sends: "restart"},
		Software: &Software{Images: images, Install: "take <<path>>", Next: "next <<version>>", Keep: "keep", Takes: time.Minute, Falls: 10 * time.Minute,
			Path: func(f string) string { return "/" + f }, Proves: true}}
}

func upgradePlan(t *testing.T, book string, traits Traits) (*Plan, error) {
	t.Helper()
	f, err := fleet.Read("fleet.csv", []byte("name,address,platform,site,model\na1,192.0.2.1,tern,ALD,t24\n"), []string{"tern"})
	require.NoError(t, err)
	rb, err := runbook.Parse("x.runbook", []byte(book))
	require.NoError(t, err)
	require.NoError(t, rb.Compile(Schema(map[string]Traits{"tern": traits}, f)))
	return Make(rb, f, nil, map[string]Traits{"tern": traits}, time.Now())
}

// The way to what is wanted is computed once the device says what it runs: each image with its commands, and how
// long it takes.
func TestTheWayToNewSoftwareIsPlanned(t *testing.T) {
	p, err := upgradePlan(t, upgradeBook, upgradeTraits())
	require.NoError(t, err)
	target := p.Targets()[0]
	assert.Equal(t, 2, target.Steps[0].Upgrade.Hops, "as long as nothing is known")
	unread, _ := target.UpgradeWork(target.Steps[0])
	require.True(t, target.RestartsFirst())

	read := func(st software.State) (*Target, error) {
		return target.Read(Reading{Config: config.Parse("", target.Traits.Style), Software: func() (software.State, error) { return st, nil },
			Holds: func(Check) (bool, error) { return false, nil }})
	}
	two, err := read(software.State{Runs: "4.2", Next: "4.2", Has: []string{"4.2"}})
	require.NoError(t, err)
	var lines []string
	for _, c := range two.Steps[0].Commands {
		lines = append(lines, c.Line)
	}
	assert.Equal(t, []string{"take /a-4.8.img", "next 4.8", "restart", "keep", "take /a-5.0.img", "next 5.0", "restart", "keep"}, lines)
	one, err := read(software.State{Runs: "4.8", Next: "4.8", Has: []string{"4.8", "5.0"}})
	require.NoError(t, err)
	assert.Len(t, one.Steps[0].Commands, 3, "it is installed already")
	usual, most := one.UpgradeWork(one.Steps[0])
	assert.Equal(t, 2*usual, unread, "two restarts were reckoned with, and one is left")
	assert.Greater(t, most, usual)
	assert.Contains(t, one.Said(one.Steps[0]), "# 5.0 is a-5.0.img, SHA-256 y", "what is sealed is that file")

	there, err := read(software.State{Runs: "5.0", Next: "5.0", Has: []string{"5.0"}})
	require.NoError(t, err)
	assert.True(t, there.Steps[0].Done)
	trial, err := read(software.State{Runs: "5.0", Next: "4.8", Has: []string{"4.8", "5.0"}, Trial: true})
	require.NoError(t, err)
	assert.False(t, trial.Steps[0].Done, "it is to be kept")
	_, err = read(software.State{Runs: "3.9", Next: "3.9", Has: []string{"3.9"}})
	require.ErrorContains(t, err, "no way leads from 3.9 to 5.0")
	_, err = read(software.State{Next: "4.8", Has: []string{"4.8"}})
	require.ErrorContains(t, err, "it runs none of the versions that are installed")

	u := *one.Steps[0].Upgrade
	assert.True(t, u.Rewritten(config.Diff{Added: []string{"log host 192.0.2.9"}, Removed: []string{"lan 3 > title x"}}))
	assert.False(t, u.Rewritten(config.Diff{Added: []string{"log host 192.0.2.9", "manage from any"}}))
	assert.False(t, u.Rewritten(config.Diff{}))
	assert.Greater(t, target.Back(), 3*time.Minute, "taking it back restarts it")
}

// What cannot be is told when it is planned, at its line.
func TestNewSoftwareThatCannotBePlanned(t *testing.T) {
	for name, c := range map[string]struct {
		edit func(*Traits)
		book func(string) string
		says string
	}{
		"another version":   {nil, func(b string) string { return strings.Replace(b, `"5.0"`, `"5.1"`, 1) }, "x.runbook:10: tern: images.yaml has no version 5.1; write: 5.0"},
		"no profile for it": {func(tr *Traits) { tr.Software = nil }, nil, "does not say how its software is exchanged"},
		"too short a time":  {nil, func(b string) string { return strings.Replace(b, "9m", "2m", 1) }, "is usually away for 3m"},
		"behind a change": {nil, func(b string) string {
			return strings.Replace(b, "step \"New software\"", "step \"First\"\n  send\n    | x\n  undo\n    | y\n\nstep \"New software\"", 1)
		}, `"First" before it changes it`},
		"twice": {nil, func(b string) string {
			return strings.Replace(b, "step \"Collector\"", "step \"Once more\"\n  software \"4.8\"\n\nstep \"Collector\"", 1)
		}, "does so, too"},
		"falls back at once": {func(tr *Traits) { tr.Software.Falls = 10 * time.Second }, nil, "goes back to its old software 10s after a start"},
	} {
		traits, book := upgradeTraits(), upgradeBook
		if c.edit != nil {
			c.edit(&traits)
		}
		if c.book != nil {
			book = c.book(book)
		}
		_, err := upgradePlan(t, book, traits)
		require.ErrorContains(t, err, c.says, name)
	}
}
