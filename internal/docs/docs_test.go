// Package docs runs the examples of the documentation.
package docs

import (
	"bytes"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metabasis/internal/cli"
	"metabasis/internal/core/carry"
	"metabasis/internal/core/fleet"
	"metabasis/internal/core/kind"
	"metabasis/internal/core/plan"
	"metabasis/internal/core/runbook"
	"metabasis/internal/core/textfile"
	"metabasis/internal/device/profile"
	"metabasis/internal/seal"
	"metabasis/internal/settings"
	"metabasis/internal/sim"
	"metabasis/profiles"
)

const root = "../../"

// blocks returns the fenced blocks of a kind in a document.
func blocks(t *testing.T, file, kind string) []string {
	b, err := os.ReadFile(root + file)
	require.NoError(t, err)
	var out []string
	for _, m := range regexp.MustCompile("(?s)```"+kind+"\n(.*?)```").FindAllStringSubmatch(string(b), -1) {
		out = append(out, m[1])
	}
	require.NotEmpty(t, out, "%s has no %s block", file, kind)
	return out
}

func TestRunbookExamples(t *testing.T) {
	set, err := profiles.Shipped()
	require.NoError(t, err)
	check := func(src string) {
		rb, err := runbook.Parse("docs/runbook.md", []byte(src))
		require.NoError(t, err)
		require.NoError(t, rb.Fill(func(string) ([]byte, error) { return []byte("lan 310\nup\nport <<gate_port>>\nlan 310\n"), nil }))
		require.NoError(t, rb.Compile(set.Schema(&fleet.Fleet{Columns: []string{"gate_port"}, Kinds: map[string]kind.Kind{"gate_port": {Type: kind.Number}}})))
		out, err := runbook.Format("docs/runbook.md", []byte(src))
		require.NoError(t, err)
		assert.Equal(t, src, string(out), "examples are tidy")
	}
	for _, src := range blocks(t, "docs/runbook.md", "runbook") {
		check(src)
	}
	for _, rest := range blocks(t, "docs/runbook.md", "runbook-rest") {
		check("runbook \"x\"\n  window    now for 1h\n\nscope\n  true\n\ntimer       5m\n\nstep \"x\"\n  send\n    | a\n  undo\n    | b\n\n" + rest)
	}
	for _, step := range blocks(t, "docs/runbook.md", "runbook-step") {
		check("runbook \"x\"\n  window    now for 1h\n\nscope\n  true\n\ntimer       5m\n\n" + step)
	}
	demo, err := os.ReadFile(root + "demo/quays.runbook")
	require.NoError(t, err)
	check(string(demo))
}

func TestProfileExcerptsAreOfTheShippedProfile(t *testing.T) {
	var shipped []byte
	for _, name := range []string{"tern", "plover", "bird", "osier", "skerry", "bittern"} {
		text, err := os.ReadFile(root + "profiles/" + name + ".yaml")
		require.NoError(t, err)
		shipped = append(shipped, text...)
	}
	for _, b := range blocks(t, "docs/profiles.md", "yaml") {
		assert.Contains(t, string(shipped), b)
	}
}

// The profile of docs/shell.md is without a mistake; make test-real works it on a
// real shell.
func TestTheShellProfile(t *testing.T) {
	all := blocks(t, "docs/shell.md", "yaml-shell")
	require.Len(t, all, 1)
	p, err := profile.Load("ward.yaml", []byte(all[0]))
	require.NoError(t, err)
	assert.True(t, p.Timer.Kind.BringsBack())
	assert.Equal(t, "", p.Unsendable("cat > /etc/ward/time.nft <<'END'"))
}

func TestTablesExamples(t *testing.T) {
	kinds, err := fleet.ReadKinds("columns.yaml", []byte(blocks(t, "docs/command-line.md", "yaml-columns")[0]))
	require.NoError(t, err)
	quay := fleet.Device{Name: "ald-quay-1", Site: "ALD"}
	csv, err := kinds.ReadTable("lans.csv", []byte(blocks(t, "docs/command-line.md", "csv-table")[0]))
	require.NoError(t, err)
	yaml, err := kinds.ReadTable("lans.yaml", []byte(blocks(t, "docs/command-line.md", "yaml-table")[0]))
	require.NoError(t, err)
	assert.Len(t, csv.Of(quay), 2)
	assert.Equal(t, csv.Of(quay), yaml.Of(quay))
	assert.Len(t, csv.Of(fleet.Device{Name: "ald-quay-3", Site: "ALD"}), 1)

	set, err := profiles.Shipped()
	require.NoError(t, err)
	f := &fleet.Fleet{}
	require.NoError(t, f.AddTables(csv))
	for _, step := range blocks(t, "docs/runbook.md", "runbook-beside") {
		rb, err := runbook.Parse("docs/runbook.md", []byte("runbook \"x\"\n  window    now for 1h\n\nscope\n  true\n\ntimer       5m\n\n"+step))
		require.NoError(t, err)
		require.NoError(t, rb.Compile(set.Schema(f)))
	}
}

func TestSharedValuesExamples(t *testing.T) {
	for _, text := range blocks(t, "docs/command-line.md", "csv-shared") {
		_, err := fleet.ReadShared("sites.csv", "site", []byte(text))
		require.NoError(t, err)
	}
}

func TestFleetExamples(t *testing.T) {
	for kind, file := range map[string]string{"csv": "fleet.csv", "yaml": "fleet.yaml", "text": "fleet.txt"} {
		for _, b := range blocks(t, "docs/command-line.md", kind) {
			f, err := fleet.Read(file, []byte(b), []string{"tern"})
			require.NoError(t, err, kind)
			assert.GreaterOrEqual(t, len(f.Devices), 2, kind)
		}
	}
}

// The settings shown can be read.
func TestSettingsExample(t *testing.T) {
	for _, b := range blocks(t, "docs/command-line.md", "yaml-values") {
		values := map[string]string{}
		_, err := textfile.YAML("values.yaml", []byte(b), &values, true)
		require.NoError(t, err)
		assert.Equal(t, map[string]string{"log_host": "198.51.100.14", "gate_lan": "311"}, values)
	}
	for _, b := range blocks(t, "docs/command-line.md", "yaml-mapping") {
		m, err := carry.Read("maps/tern-tern.yaml", []byte(b))
		require.NoError(t, err)
		assert.Equal(t, "port 5", m.Ports["port 3"])
	}
	for _, b := range blocks(t, "docs/command-line.md", "sh-verify") {
		assert.Contains(t, b, "-n "+seal.Namespace+" ")
	}
	for _, b := range blocks(t, "docs/command-line.md", "yaml-settings") {
		file := filepath.Join(t.TempDir(), "metabasis.yaml")
		require.NoError(t, os.WriteFile(file, []byte(b), 0o600))
		s, err := settings.Load(settings.Source{Workspace: file, Env: func(string) string { return "" }})
		require.NoError(t, err)
		assert.Equal(t, "strict", s.Get(settings.HostKeys))
		assert.Len(t, s.Logins, 3)
		assert.Len(t, s.Places, 3)
		for name, rest := range s.Prechecks {
			_, err := runbook.DefaultPrecheck(file, name, rest)
			assert.NoError(t, err)
		}
	}
}

// The scenario shown can be played, and every kind of fault is named.
func TestScenarioExample(t *testing.T) {
	for _, b := range blocks(t, "docs/command-line.md", "yaml-scenario") {
		s, err := sim.ReadScenario("scenario.yaml", []byte(b))
		require.NoError(t, err)
		f, err := sim.New(s)
		require.NoError(t, err)
		assert.Len(t, f.Devices(), 2)
		f.Close()
	}
	doc, err := os.ReadFile(root + "docs/command-line.md")
	require.NoError(t, err)
	text := strings.Join(strings.Fields(string(doc)), " ")
	for _, k := range sim.Kinds() {
		assert.Contains(t, text, k)
	}
}

// Every command line shown is one that the program takes: it is run with --help
// behind it, which checks its words and flags and does nothing else.
func TestCommandLines(t *testing.T) {
	for _, b := range blocks(t, "docs/command-line.md", "console") {
		for line := range strings.Lines(b) {
			args := strings.Fields(line)
			require.Equal(t, []string{"$", "metabasis"}, args[:2])
			var out, errOut bytes.Buffer
			code := cli.Main(append(args[2:], "--help"), strings.NewReader(""), &out, &errOut)
			assert.Equal(t, 0, code, "%s: %s", line, errOut.String())
			assert.Contains(t, out.String(), "Usage:")
		}
	}
}

// Links and pictures lead somewhere, and every picture is shown.
func TestLinks(t *testing.T) {
	docs, err := filepath.Glob(root + "docs/*.md")
	require.NoError(t, err)
	readme, err := os.ReadFile(root + "README.md")
	require.NoError(t, err)
	for _, file := range append(docs, root+"README.md") {
		b, err := os.ReadFile(file)
		require.NoError(t, err)
		for _, m := range regexp.MustCompile(`\]\(([^)#]+)\)`).FindAllStringSubmatch(string(b), -1) {
			if !strings.Contains(m[1], "://") {
				assert.FileExists(t, filepath.Join(filepath.Dir(file), m[1]), file)
			}
		}
	}
	shots, err := filepath.Glob(root + "docs/screenshots/*.png")
	require.NoError(t, err)
	assert.Less(t, len(shots), 20)
	for _, s := range shots {
		assert.Contains(t, string(readme), "docs/screenshots/"+filepath.Base(s))
	}
}

// Each law names the test that holds it, and that test exists.
func TestEveryLawHasItsTest(t *testing.T) {
	b, err := os.ReadFile(root + "docs/architecture.md")
	require.NoError(t, err)
	var code strings.Builder
	for _, glob := range []string{"internal/nights/*_test.go", "internal/core/*/*_test.go", "internal/device/*/*_test.go", "internal/screen/*/*_test.go", "internal/e2e/*_test.go", "internal/kills/*_test.go", "internal/seal/*_test.go"} {
		files, err := filepath.Glob(root + glob)
		require.NoError(t, err)
		for _, f := range files {
			src, err := os.ReadFile(f)
			require.NoError(t, err)
			code.Write(src)
		}
	}
	laws := 0
	for line := range strings.Lines(string(b)) {
		if !regexp.MustCompile(`^\| \d+ \|`).MatchString(line) {
			continue
		}
		laws++
		names := regexp.MustCompile("`((?:law|Test|Fuzz)[A-Za-z]+)`").FindAllStringSubmatch(line, -1)
		assert.NotEmpty(t, names, line)
		for _, n := range names {
			assert.Regexp(t, `func (\(w \*world\) )?`+n[1]+`\(`, code.String(), line)
		}
	}
	assert.Equal(t, 20, laws)
}

// A runbook over gear with protocols of its own can be planned.
func TestRunbookOfOtherProtocols(t *testing.T) {
	set, err := profiles.Shipped()
	require.NoError(t, err)
	f, err := fleet.Read("fleet.csv", []byte("name,address,platform,site,role,login\nald-core-1,192.0.2.1,skerry,ALD,core,crew\nald-sign-1,192.0.2.2,bittern,ALD,sign,crew\n"), set.Platforms())
	require.NoError(t, err)
	for _, src := range blocks(t, "docs/runbook.md", "runbook-others") {
		rb, err := runbook.Parse("others.runbook", []byte(src))
		require.NoError(t, err)
		require.NoError(t, rb.Compile(set.Schema(f)))
		_, err = plan.Make(rb, f, nil, set.Traits(), time.Date(2026, 11, 26, 20, 0, 0, 0, time.UTC))
		require.NoError(t, err)
	}
}

// The mixed fleet that comes along can be simulated, and its runbook planned over it.
func TestTheMixedFleet(t *testing.T) {
	set, err := profiles.Shipped()
	require.NoError(t, err)
	scenario, err := os.ReadFile(root + "demo/mixed.yaml")
	require.NoError(t, err)
	s, err := sim.ReadScenario("demo/mixed.yaml", scenario)
	require.NoError(t, err)
	devices, err := sim.New(s)
	require.NoError(t, err)
	defer devices.Close()
	csv := "name,address,platform,site,login\n"
	for _, d := range s.Devices {
		csv += d.Name + "," + d.Address + "," + d.Platform + "," + d.Site + ",crew\n"
	}
	f, err := fleet.Read("fleet.csv", []byte(csv), set.Platforms())
	require.NoError(t, err)
	book, err := os.ReadFile(root + "demo/mixed.runbook")
	require.NoError(t, err)
	rb, err := runbook.Parse("mixed.runbook", book)
	require.NoError(t, err)
	require.NoError(t, rb.Compile(set.Schema(f)))
	p, err := plan.Make(rb, f, nil, set.Traits(), time.Date(2026, 11, 26, 20, 0, 0, 0, time.UTC))
	require.NoError(t, err)
	assert.Len(t, p.Targets(), 8)
	tidy, err := runbook.Format("mixed.runbook", book)
	require.NoError(t, err)
	assert.Equal(t, string(tidy), string(book))
}
