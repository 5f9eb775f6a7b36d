// Package demo holds the demo: the fleet, the runbook and the scenario of a
// night at Marrow Sound Ferries.
package demo

import (
	_ "embed"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"metabasis/internal/core/textfile"
	"metabasis/internal/device"
	"metabasis/internal/device/ssh"
	"metabasis/internal/sim"
)

//go:embed fleet.csv
var fleetCSV string

//go:embed quays.runbook
var runbookText string

//go:embed scenario.yaml
var scenarioYAML []byte

// Runbook is the name of the demo's runbook file.
const Runbook = "quays.runbook"

// Levels are how much goes wrong in the demo.
var Levels = []string{"none", "few", "many"}

// wrongPort is the device whose gate port in the fleet file is its uplink when
// things go wrong: the change cuts it off, as it would in earnest.
const wrongPort = "drf-quay-3"

var few = map[string][]sim.Fault{
	"brm-quay-4": {{Kind: sim.Rejects, Match: "^log host"}},
	"cld-quay-2": {{Kind: sim.NeverSettles}},
}

var many = map[string][]sim.Fault{
	"ald-quay-5": {{Kind: sim.Slow, By: 700 * time.Millisecond}},
	"brm-quay-2": {{Kind: sim.Refuses}},
	"brm-quay-5": {{Kind: sim.NoTimer}},
	"cld-quay-4": {{Kind: sim.Garbage, Match: "^log host"}},
	"cld-quay-5": {{Kind: sim.Drops, Match: "^log host", Times: 1}},
	"drf-quay-2": {{Kind: sim.NoSave}},
	"eyr-quay-2": {{Kind: sim.BadPassword}},
	"ald-quay-4": {{Kind: sim.Restarts, Match: "^log host", Times: 1}, {Kind: sim.NeverBack}},
}

// Scenario is the demo's scenario with that much going wrong.
func Scenario(level string) (sim.Scenario, error) {
	s, err := sim.ReadScenario("scenario.yaml", scenarioYAML)
	if err != nil {
		return s, err
	}
	if !slices.Contains(Levels, level) {
		return s, fmt.Errorf("faults %q: write one of %s", level, strings.Join(Levels, ", "))
	}
	for i := range s.Devices {
		d := &s.Devices[i]
		if level != "none" {
			d.Faults = append(d.Faults, few[d.Name]...)
		}
		if level == "many" {
			d.Faults = append(d.Faults, many[d.Name]...)
		}
	}
	return s, s.Prepare()
}

// Logins are the credentials of the demo's devices.
func Logins(s sim.Scenario) map[string]device.Login {
	return map[string]device.Login{
		"crew": {Login: ssh.Login{Name: "crew", User: "crew", Password: s.Logins["crew"]}, Secrets: map[string]string{"operator": s.Operator}},
		"gates": {
			Login:   ssh.Login{Name: "gates", User: "gates", Password: s.ClearLogins["gates"]},
			Secrets: map[string]string{"master": s.Master},
		},
	}
}

// Write makes a directory the demo's workspace. With addresses, by device name,
// the fleet is written with those in place of the scenario's. A runbook that is
// there already stays as it is.
func Write(dir, level string, addresses map[string]string) error {
	text := fleetCSV
	if level != "none" {
		text = mapRows(text, func(f []string) {
			if f[0] == wrongPort {
				f[8] = "1"
			}
		})
	}
	if addresses != nil {
		text = strings.Replace(mapRows(text, func(f []string) {
			host, port, _ := strings.Cut(addresses[f[0]], ":")
			f[1] = host + "," + port
		}), "name,address,", "name,address,port,", 1)
	}
	if err := WriteFleet(dir, text); err != nil {
		return err
	}
	file := filepath.Join(dir, Runbook)
	if _, err := os.Stat(file); err == nil {
		return nil
	}
	return textfile.Replace(file, []byte(runbookText), 0o600) // whoever waits for it finds all of it
}

// simulated is the first line of a fleet file that may be written over.
const simulated = "# The simulated fleet. Metabasis writes this file anew each time.\n"

// WriteFleet writes the fleet file of a workspace over simulated devices, which
// is made if need be. A fleet file that somebody else has written is not touched.
func WriteFleet(dir, csv string) error {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return err
	}
	file := filepath.Join(dir, "fleet.csv")
	old, err := os.ReadFile(file)
	if err == nil && !strings.HasPrefix(string(old), simulated) {
		return fmt.Errorf("%s is not of a simulated fleet, and is left as it is; name another directory", file)
	}
	return textfile.Replace(file, []byte(simulated+csv), 0o600)
}

// mapRows edits the rows of a simple CSV text, its heading aside.
func mapRows(text string, edit func([]string)) string {
	lines := strings.Split(strings.TrimSpace(text), "\n")
	for i, l := range lines[1:] {
		f := strings.Split(l, ",")
		edit(f)
		lines[i+1] = strings.Join(f, ",")
	}
	return strings.Join(lines, "\n") + "\n"
}
