package nights

import (
	"context"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metabasis/internal/core/fleet"
	"metabasis/internal/core/night"
	"metabasis/internal/device/profile"
	persons "metabasis/internal/person"
	"metabasis/internal/sim"
)

// knows is a person who knows the words of a dunlin and nothing of profiles.
type knows struct {
	t    *testing.T
	m    sim.Manners
	told []string
}

// Ask implements [persons.Person].
func (k *knows) Ask(_ context.Context, f persons.Form) (out []string, err error) {
	for _, q := range f.Questions {
		word := operator
		if !q.Secret {
			if word, err = k.answer(q.Text, q.Hint); err != nil {
				return nil, err
			}
		}
		out = append(out, word)
	}
	return out, nil
}

func (k *knows) tell(text string, _ bool) { k.told = append(k.told, text) }

func (k *knows) answer(question, hint string) (string, error) {
	only := func(ok bool, word string) (string, error) {
		if !ok {
			return "", nil
		}
		return k.m.Words[word], nil
	}
	last := func(text string) bool { return strings.Contains(question, text) }
	switch {
	case last("more rights"):
		return only(k.m.Raises, "raise")
	case last("back from there") && strings.HasPrefix(hint, "such"):
		return k.m.Words["lower"], nil
	case last("back from there"):
		return k.m.Words["done"], nil
	case last("pager off"):
		return only(k.m.PagesOff && len(k.m.Pages) > 0, "pages off")
	case last("that runs"):
		return k.m.Words["running"], nil
	case last("start with"):
		return only(k.m.Tells, "saved")
	case last("changes are typed"):
		return only(k.m.Edits, "edit")
	case last("saves what runs"):
		return only(k.m.Keeps == "command", "save")
	case last("ends a session"):
		return k.m.Words["quit"], nil
	case last("device's name"):
		return "", nil
	}
	require.Fail(k.t, "nobody can answer", question)
	return "", nil
}

// exploredBook is a change that needs no table.
const exploredBook = `runbook "Log collector"
  window    now for 3h
  reserve   20m

scope
  role == "quay"

precheck
  reachable

timer       none

step "Log collector"
  already   when config has "log host 198.51.100.14"
  send
    | log host 198.51.100.14
  undo
    | drop log host 198.51.100.14

unattended  take back the device
`

// TestExplored looks at platforms of drawn manners with nothing but their words, as
// metabasis profile new does: the profile that it writes is without a mistake, every
// line of it fits, and a night with it says nothing that is not so.
func TestExplored(t *testing.T) {
	var kept tally
	t.Run("platforms", func(t *testing.T) {
		eachSeed(t, func(t *testing.T, seed uint64, dir string) {
			m := sim.DrawManners(rand.New(rand.NewPCG(seed, 13)))
			text := explored(t, m)
			p, err := profile.Load("dunlin.yaml", []byte(text))
			require.NoError(t, err, text)
			found := tryDunlin(t, m, p)
			if m.Silent { // that is what its remark says
				found = without(found, "refused lines would go unnoticed")
			}
			assert.Empty(t, found, text)
			kept.add(exploredNight(t, m, p, dir))
			if t.Failed() {
				t.Log(text)
			}
		})
	})
	t.Log(kept.of)
	if *count >= 200 { // one platform alone may well be one that keeps nothing
		assert.Greater(t, kept.of["kept"], *count/3)
	}
}

func without(list []string, text string) (out []string) {
	for _, l := range list {
		if !strings.Contains(l, text) {
			out = append(out, l)
		}
	}
	return out
}

// explored is the profile that is written of a device with manners.
func explored(t *testing.T, m sim.Manners) string {
	f, err := sim.New(sim.Scenario{Manners: &m, Logins: map[string]string{"crew": password}, Operator: operator, Config: baseConfig, TimeSources: []string{"192.0.2.9"},
		Devices: []sim.Spec{{Name: "ald-9", Address: "192.0.2.99", Platform: "dunlin"}}})
	require.NoError(t, err)
	defer f.Close()
	scratch := &profile.Profile{Platform: "dunlin", Connect: profile.Connect{Protocol: profile.SSH, Port: 22, Prompt: 30e9}}
	w := &world{t: t, sim: f, dir: t.TempDir(), profiles: profile.Set{"dunlin": scratch}}
	who := &knows{t: t, m: m}
	seen, err := w.connector().Explore(context.Background(), fleet.Device{Name: "ald-9", Address: "192.0.2.99", Platform: "dunlin", Login: "crew"}, who, who.tell)
	require.NoError(t, err, "%v %+v", who.told, m)
	require.NoError(t, w.scripts.Close())
	before := strings.ReplaceAll(baseConfig, "{{.Name}}", "ald-9")
	assert.Subset(t, strings.Split(f.Device("ald-9").Running(), "\n"), strings.Split(before, "\n"), "nothing was changed")
	return seen.Draft()
}

func exploredNight(t *testing.T, m sim.Manners, p *profile.Profile, dir string) *world {
	s := sim.Scenario{Manners: &m, Devices: []sim.Spec{{Name: "ald-1", Address: "192.0.2.60", Site: "ALD", Platform: "dunlin"}}}
	w := newWorldOf(t, profile.Set{"dunlin": p}, s, "name,address,platform,site,role,login\nald-1,192.0.2.60,dunlin,ALD,quay,crew\n", exploredBook, nil, dir)
	defer w.sim.Close()
	w.noTimer, w.misled, w.drawn = true, true, &m
	w.runQuiet()
	w.everyNightEnds()
	d, dev := w.night.Get("ald-1"), w.sim.Device("ald-1")
	switch d.State {
	case night.Kept:
		assert.Contains(t, dev.Running(), w.mark)
		assert.True(t, strings.Contains(d.Note, "not known") || strings.Contains(d.Note, "cannot be read") || dev.Saved() == dev.Running(), d.Note)
	case night.Reverted:
		assert.Equal(t, w.initial["ald-1"], dev.Running(), d.Note)
	}
	return w
}
