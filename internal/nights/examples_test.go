package nights

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metabasis/internal/core/fleet"
	"metabasis/internal/core/night"
	"metabasis/internal/core/plan"
	"metabasis/internal/core/runbook"
	"metabasis/internal/sim"
	"metabasis/internal/store"
)

const examples = "../../docs/examples/"

// quayConfig is a quay as the examples find it; no two log hosts are the same.
const quayConfig = `name {{.Name}}
time source 192.0.2.9 first
%smanage from any
login crew secret ` + inConfig + `
lan 20
  title crew
lan 21
port 1
  trunk
port 3
  label "crew room"
  lan %d
  shut
port 7
  label "ticket gates"
  lan 20
`

// TestExamples runs the examples of the documentation: each is short, does what its title
// says on every quay, whatever stood there, and finds nothing to do when it is run again.
func TestExamples(t *testing.T) {
	for name, want := range map[string]map[string][]string{
		"exact-list": {
			"ald-quay-1": {"log host 198.51.100.14", "log host 198.51.100.15", "drop log host 198.51.100.7", "drop log host 198.51.100.8"},
			"ald-quay-2": {"log host 198.51.100.14", "log host 198.51.100.15"},
			"brm-quay-1": {"log host 198.51.100.14", "log host 198.51.100.15", "drop log host 198.51.100.9"},
		},
		"per-port": {
			"ald-quay-1": {"port 3", "open"},
			"ald-quay-2": {"port 3", "lan 20", "open"},
			"brm-quay-1": {"port 3", "lan 21", "open"},
		},
		"lans": {
			"ald-quay-1": {"lan 310", "title gates", "drop lan 21"},
			"ald-quay-2": {"lan 310", "title gates", "up", "lan 21", "title kiosk"},
			"brm-quay-1": {"lan 311", "title gates", "drop lan 21"},
		},
		"banner": {
			"ald-quay-1": {"greeting until end-of-greeting", "  Marrow Sound Ferries, ALD", "", "  This is ald-quay-1. Whoever is not of the crew, log out.", "end-of-greeting"},
			"ald-quay-2": {"greeting until end-of-greeting", "  Marrow Sound Ferries, ALD", "", "  This is ald-quay-2. Whoever is not of the crew, log out.", "end-of-greeting"},
			"brm-quay-1": {"greeting until end-of-greeting", "  Marrow Sound Ferries, BRM", "", "  This is brm-quay-1. Whoever is not of the crew, log out.", "end-of-greeting"},
		},
		"release": { // brm-quay-1 is of 4.1
			"ald-quay-1": {"log host 198.51.100.14", "drop log host 198.51.100.7", "drop log host 198.51.100.8"},
			"ald-quay-2": {"log host 198.51.100.14"},
		},
		"count-anew": {
			"ald-quay-1": {"log host 198.51.100.14"},
			"ald-quay-2": {"log host 198.51.100.14"},
			"brm-quay-1": {"log host 198.51.100.14"},
		},
		"dependent": {
			"ald-quay-1": {"lan 310", "title gates", "port 7", "lan 310"},
			"ald-quay-2": {"lan 310", "title gates", "port 7", "lan 310"},
			"brm-quay-1": {"lan 311", "title gates", "port 7", "lan 311"},
		},
	} {
		t.Run(name, func(t *testing.T) {
			text := example(t, name)
			assert.LessOrEqual(t, strings.Count(text, "\n"), 30)
			dir := t.TempDir()
			synctest.Test(t, func(t *testing.T) {
				w := exampleWorld(t, text, dir)
				defer w.sim.Close()
				w.runQuiet()
				w.checkLaws()
				for device, lines := range want {
					d := w.night.Get(device)
					assert.Equal(t, night.Kept, d.State, d.Note)
					assert.True(t, d.Predicted)
					assert.ElementsMatch(t, lines, w.sentTo(device, night.ToSend), device)
				}
				again := exampleAgain(t, w, string(text))
				again.runQuiet()
				for _, d := range again.night.Devices {
					assert.Equal(t, night.Already, d.State, d.Note)
				}
			})
		})
	}
}

func exampleFleet(t *testing.T) *fleet.Fleet {
	read := func(name string) []byte {
		b, err := os.ReadFile(examples + name)
		require.NoError(t, err)
		return b
	}
	f, err := fleet.Read("fleet.csv", read("fleet.csv"), []string{"tern"})
	require.NoError(t, err)
	sites, err := fleet.ReadShared("sites.csv", "site", read("sites.csv"))
	require.NoError(t, err)
	require.NoError(t, f.Add(sites))
	lans, err := fleet.Kinds(nil).ReadTable("tables/lans.csv", read("tables/lans.csv"))
	require.NoError(t, err)
	require.NoError(t, f.AddTables(lans))
	return f
}

func examplePlan(t *testing.T, w *world, text string) *plan.Plan {
	f := exampleFleet(t)
	rb, err := runbook.Parse("example.runbook", []byte(strings.Replace(text, "01:30", "now", 1)))
	require.NoError(t, err)
	require.NoError(t, rb.Compile(w.profiles.Schema(f)))
	answers := map[string]string{}
	for _, a := range rb.Ask {
		answers[a.Name] = a.Default
	}
	p, err := plan.Make(rb, f, answers, w.profiles.Traits(), time.Now())
	require.NoError(t, err)
	return p
}

func exampleWorld(t *testing.T, text, dir string) *world {
	s := sim.Scenario{Boot: 15 * time.Second, Settle: 8 * time.Second}
	for i, d := range exampleFleet(t).Devices {
		logs := []string{"log host 198.51.100.7\nlog host 198.51.100.8\n", "", "log host 198.51.100.9\n"}[i]
		s.Devices = append(s.Devices, sim.Spec{Name: d.Name, Address: d.Address, Site: d.Site, Config: fmt.Sprintf(quayConfig, logs, []int{20, 21, 20}[i]),
			Version: []string{"4.2", "4.2", "4.1"}[i]})
	}
	w := newWorldOf(t, shipped(t), s, "name,address,platform,site,role,pair,via,login\nald-quay-1,192.0.2.101,tern,ALD,quay,,,crew\n", standardBook, nil, dir)
	for i := range w.specs {
		delete(w.unsaved, i)
	}
	w.mark, w.loose = "", true
	w.plan = examplePlan(t, w, text)
	return w
}

// exampleAgain is the next night over the same devices.
func exampleAgain(t *testing.T, w *world, text string) *world {
	again := *w
	again.plan = examplePlan(t, w, text)
	again.journal = &recordingJournal{}
	again.night = night.Night{}
	again.dir = filepath.Join(w.dir, "again")
	again.backups = &recordingBackups{Backups: store.Backups{Dir: filepath.Join(again.dir, "backups")}, done: map[string]time.Time{}, text: map[string]string{}}
	return &again
}

// example is the text of an example, which is tidy.
func example(t *testing.T, name string) string {
	t.Helper()
	text, err := os.ReadFile(examples + name + ".runbook")
	require.NoError(t, err)
	tidy, err := runbook.Format(name, text)
	require.NoError(t, err)
	assert.Equal(t, string(text), string(tidy))
	return string(text)
}

// The example that has something done: it is done once on each, and the neighbours are waited for.
func TestExampleOfSomethingDone(t *testing.T) {
	text := example(t, "renew-links")
	dir := t.TempDir()
	synctest.Test(t, func(t *testing.T) {
		w := exampleWorld(t, text, dir)
		defer w.sim.Close()
		w.run(t.Context(), answering(t, night.GoOn, night.BackDevice))
		w.checkLaws()
		for _, d := range w.night.Devices {
			assert.Equal(t, night.Kept, d.State, d.Note)
			assert.Equal(t, 1, w.did(d.Name))
			assert.GreaterOrEqual(t, d.Ended.Sub(d.Began), 8*time.Second, "as long as the links take")
		}
	})
}
