package plan

import (
	"maps"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metabasis/internal/core/fleet"
	"metabasis/internal/core/runbook"
)

// rook is a platform without a rollback timer, and without a way to restore.
var withRook = func() map[string]Traits {
	out := maps.Clone(traits)
	out["rook"] = Traits{TellsName: true, Timer: NoTimer, Connect: time.Second, Command: time.Second}
	return out
}()

const mixed = `name,address,platform,site,role
a,192.0.2.1,tern,ALD,quay
r,192.0.2.9,rook,ALD,quay
`

// planMixed plans a runbook over a tern and a rook.
func planMixed(t *testing.T, text string, answers map[string]string) (*Plan, error) {
	t.Helper()
	rb, err := runbook.Parse("x.runbook", []byte(text))
	require.NoError(t, err)
	require.NoError(t, rb.Compile(Schema(withRook, nil)))
	f, err := fleet.Read("fleet.csv", []byte(mixed), []string{"tern", "rook"})
	require.NoError(t, err)
	if _, _, err2 := Review(rb, f, withRook); err2 != nil {
		_, err := Make(rb, f, answers, withRook, night)
		require.ErrorContains(t, err, firstOf(err2.Error()), "what the review finds, the plan refuses")
	}
	return Make(rb, f, answers, withRook, night)
}

func firstOf(s string) string { s, _, _ = strings.Cut(s, "\n"); return s }

const simpleBook = `runbook "x"
  window    01:30 for 2h45m
scope
  role == "quay"
timer       10m
step "Lans"
  send
    | lan 310
  undo
    | drop lan 310
step "Ports"
  send
    | port 3
    | lan 310
    | up
  undo
    | port 3
    | drop lan
    | up
`

func TestAPlatformWithoutATimerMustBeWrittenOut(t *testing.T) {
	_, err := planMixed(t, simpleBook, nil)
	assert.ErrorContains(t, err, "x.runbook:5: r is in scope, and its platform rook has no rollback timer")
	assert.ErrorContains(t, err, "write: timer none on rook")
	p, err := planMixed(t, strings.Replace(simpleBook, "timer       10m\n", "timer       10m\ntimer       none on rook\n", 1), nil)
	require.NoError(t, err)
	guarded := map[string]bool{}
	for _, target := range p.Targets() {
		guarded[target.Device.Name] = p.Guards(target)
	}
	assert.Equal(t, map[string]bool{"a": true, "r": false}, guarded)
	all := strings.Join(p.Warnings, "\n")
	assert.Contains(t, all, "timer none on rook: on 1 device nothing but we takes the change back")
	assert.Contains(t, all, "rook: no backup can be put back on it; only the undo lines lead back")
	assert.Contains(t, all, "rook: nothing is saved on 1 device, and what is saved cannot be read")
	assert.NotContains(t, all, "tern")
	p, err = planMixed(t, strings.Replace(simpleBook, "timer       10m\n", "timer       none\n", 1), nil)
	require.NoError(t, err)
	assert.Contains(t, strings.Join(p.Warnings, "\n"), "timer none: no device takes the change back by itself")
	for _, target := range p.Targets() {
		assert.False(t, p.Guards(target))
	}
}

func TestTheReviewFindsWhatThePlanWould(t *testing.T) {
	ok := strings.Replace(simpleBook, "timer       10m\n", "timer       10m\ntimer       none on rook\n", 1)
	_, err := planMixed(t, ok+"  expect    clock.settled within 5s\n", nil)
	assert.ErrorContains(t, err, `the profile of rook reads no table "clock"`)
	_, err = planMixed(t, ok+"step \"Clock\"\n  when      platform == \"tern\"\n  expect    clock.settled within 5s\n", nil)
	assert.NoError(t, err, "no device of platform rook would look")
	_, err = planMixed(t, strings.Replace(ok, "| port 3", "| restart", 1), nil)
	assert.ErrorContains(t, err, `never lets a runbook send "restart"`)
	// What depends on a value that nobody has given yet is not looked at.
	rb, err := runbook.Parse("x.runbook", []byte(strings.Replace(simpleBook, "scope\n", "ask\n  where     text  \"Where\"\nscope\n  site == where\n", 1)))
	require.NoError(t, err)
	require.NoError(t, rb.Compile(Schema(withRook, nil)))
	f, err := fleet.Read("fleet.csv", []byte(mixed), []string{"tern", "rook"})
	require.NoError(t, err)
	open, _, err := Review(rb, f, withRook)
	assert.NoError(t, err)
	assert.Equal(t, "where", open)
	_, err = Make(rb, f, map[string]string{"where": "ALD"}, withRook, night)
	assert.ErrorContains(t, err, "has no rollback timer")
	// An empty scope is an error of a night, not of a runbook that is being written.
	rb = parse(t, strings.Replace(book, `role == "quay"`, `role == "boat"`, 1))
	_, _, err = Review(rb, read(t, six), traits)
	assert.NoError(t, err)
}

func TestNothingThatLooksUnfilledIsSent(t *testing.T) {
	text := strings.NewReplacer("number 2..4000  \"LAN\" = 310", "text  \"LAN\"", "<<lan>> on", "<<lan>> at").Replace(book)
	_, err := Make(parse(t, text), read(t, six), map[string]string{"lan": "<<lan>>"}, traits, night)
	assert.ErrorContains(t, err, "looks as if a value were not filled in")
}

func TestStepsThatMentionWhatAnotherMakes(t *testing.T) {
	ok := strings.Replace(simpleBook, "timer       10m\n", "timer       none\n", 1)
	warned := func(text string) string {
		p, err := planMixed(t, text, nil)
		require.NoError(t, err)
		return strings.Join(p.Warnings, "\n")
	}
	const want = `step "Ports" mentions "lan 310", which step "Lans" makes: if it is of no use without, write into it: needs "Lans"`
	assert.Equal(t, 1, strings.Count(warned(ok), want))
	assert.NotContains(t, warned(strings.Replace(ok, "step \"Ports\"\n", "step \"Ports\"\n  needs     \"Lans\"\n", 1)), "mentions")
	assert.NotContains(t, warned(strings.Replace(ok, "    | lan 310\n    | up", "    | lan 31\n    | up", 1)), "mentions")
	assert.Contains(t, warned(strings.Replace(ok, "    | lan 310\n    | up", "    | lan 31\n    | up", 1)+
		"step \"Look\"\n  expect    config has \"port 3 > lan 310\" within 5s\n"), `step "Look" mentions "lan 310"`)
	assert.NotContains(t, warned(ok+"step \"Other port\"\n  send\n    | port 3\n    | open\n  undo\n    | port 3\n    | shut\n"), `step "Other port" mentions`,
		"a section that a step only enters is not made by it")
	p, err := planMixed(t, strings.Replace(ok, "step \"Ports\"\n", "step \"Ports\"\n  needs     \"Lans\"\n", 1), nil)
	require.NoError(t, err)
	assert.Equal(t, []int{1}, p.Targets()[0].Steps[1].Needs)
}

func TestTheBudgetIsSaid(t *testing.T) {
	p, err := Make(parse(t, book), read(t, six), map[string]string{"lan": "310"}, traits, night)
	require.NoError(t, err)
	assert.Equal(t, 2, p.Rules.StopAfter)
	assert.NotContains(t, strings.Join(p.Warnings, "\n"), "stop never")
	p, err = Make(parse(t, strings.Replace(book, "  sizes     1, 2, 50%\n", "  stop      never\n", 1)), read(t, six), map[string]string{"lan": "310"}, traits, night)
	require.NoError(t, err)
	assert.Equal(t, 0, p.Rules.StopAfter)
	assert.Contains(t, strings.Join(p.Warnings, "\n"), "stop never: however many devices fail")
}

// A value asked for as a secret is nowhere in what the plan says of itself; one that
// a profile would mask must be asked for as one.
func TestSecretsOfAPlan(t *testing.T) {
	masking := maps.Clone(traits)
	tern := masking["tern"]
	tern.Mask = func(l string) string {
		if name, word, ok := strings.Cut(l, " secret "); ok && word != "" {
			return name + " secret " + Hidden
		}
		return l
	}
	masking["tern"] = tern
	text := strings.NewReplacer("  lan       number 2..4000  \"LAN\" = 310\n", "  key       secret  \"The key\"\n", "lan <<lan>> on <<n>> of <<name>>", "key <<n>> secret <<key>>",
		"drop lan <<lan>> on <<n>>", "drop key <<n>> secret <<key>>", "site != \"EYR\"", "site != key").Replace(book)
	const key = "gull-wing"
	p, err := Make(parse(t, text), read(t, six), map[string]string{"key": key}, masking, night)
	require.NoError(t, err)
	assert.Equal(t, []Value{{Name: "key", Prompt: "The key", Value: Hidden}}, p.Values)
	assert.Contains(t, p.Targets()[0].Steps[0].Send[0], key)
	assert.Equal(t, []string{"key 1 secret ▒▒▒▒", "a > b ▒▒▒▒"}, p.Targets()[0].Masked([]string{"key 1 secret " + key, "a > b " + key}))
	assert.Equal(t, []string{"key 2 secret ▒▒▒▒ > lan 7"}, p.Targets()[0].Masked([]string{"key 2 secret its-own > lan 7"}), "what the platform says is one")
	assert.NotContains(t, strings.Join(p.Warnings, "\n"), key)
	for _, l := range p.LeftOut {
		assert.NotContains(t, l.Why, key)
	}
	_, err = Make(parse(t, strings.Replace(text, "secret  \"The key\"", "text  \"The key\"", 1)), read(t, six), map[string]string{"key": key}, masking, night)
	assert.ErrorContains(t, err, "key stands where the profile of tern masks a secret (key 1 secret ▒▒▒▒), but is asked for as text")
	assert.ErrorContains(t, err, `key  secret  "The key"`)
	_, err = Make(parse(t, strings.Replace(text, "<<n>> secret <<key>>", "<<n>> secret <<key>>\x20<<pair>>", 1)), read(t, six), map[string]string{"key": key}, masking, night)
	assert.Error(t, err)
	assert.NotContains(t, err.Error(), key)
}

func TestAWindowThatOpensWithTheRun(t *testing.T) {
	p, err := Make(parse(t, strings.Replace(book, "01:30 for", "now for", 1)), read(t, six), map[string]string{"lan": "310"}, traits, night)
	require.NoError(t, err)
	later := night.Add(5 * time.Hour)
	begun := p.Begun(later)
	assert.Equal(t, later, begun.Window.Open)
	assert.Equal(t, later.Add(165*time.Minute), begun.Window.Close)
	assert.Equal(t, night, p.Window.Open, "the plan itself stays as it is")
	fixed, err := Make(parse(t, book), read(t, six), map[string]string{"lan": "310"}, traits, night)
	require.NoError(t, err)
	assert.Equal(t, fixed.Window, fixed.Begun(later).Window)
}

// A list with a value that a device does not have is an error: the step would
// silently be no step there.
func TestALoopOverWhatADeviceDoesNotHave(t *testing.T) {
	text := strings.NewReplacer("for       n in 1..3", "for       n in 7, <<pair>>", "site != \"EYR\"", "name != \"\"").Replace(book)
	_, err := Make(parse(t, text), read(t, "name,address,platform,site,role,pair\na,192.0.2.1,tern,ALD,quay,\n"), map[string]string{"lan": "310"}, traits, night)
	assert.ErrorContains(t, err, "x.runbook:13: a: line 13: value pair is empty")
}

// A step whose lines are for another platform is no step of a device.
func TestAStepForAnotherPlatform(t *testing.T) {
	text := strings.Replace(simpleBook, "step \"Lans\"\n  send\n    | lan 310\n  undo\n    | drop lan 310\n", "step \"Lans\"\n  on tern\n    send\n      | lan 310\n    undo\n      | drop lan 310\n", 1)
	p, err := planMixed(t, strings.Replace(text, "timer       10m\n", "timer       none\n", 1), nil)
	require.NoError(t, err)
	titles := map[string][]string{}
	for _, target := range p.Targets() {
		for _, s := range target.Steps {
			titles[target.Device.Name] = append(titles[target.Device.Name], s.Title)
		}
	}
	assert.Equal(t, map[string][]string{"a": {"Lans", "Ports"}, "r": {"Ports"}}, titles)
}

// A device that was quick once is not counted on to be.
func TestNobodyIsCountedOnToBeQuick(t *testing.T) {
	p, err := Make(parse(t, book), read(t, six), map[string]string{"lan": "310"}, traits, night)
	require.NoError(t, err)
	target := p.Targets()[0]
	usual := target.Traits
	assert.Equal(t, usual, target.At(usual.Command/10).Traits)
	slow := target.At(usual.Command * 10).Traits
	assert.Equal(t, usual.Command*10, slow.Command)
	assert.Greater(t, slow.Connect, usual.Connect)
	assert.Equal(t, usual, target.Traits, "the target itself stays as it is")
}

// What a timer brings back is what is saved: that nothing is unsaved can be neither switched
// off nor waived where such a timer runs, and where none runs it can.
func TestSavedMattersWhereATimerBringsItBack(t *testing.T) {
	guarded := strings.Replace(simpleBook, "timer       10m\n", "timer       10m\ntimer       none on rook\n", 1)
	off := strings.Replace(guarded, "step \"Lans\"", "precheck\n  saved off\nstep \"Lans\"", 1)
	_, err := planMixed(t, off, nil)
	assert.ErrorContains(t, err, "saved cannot be off on tern: its timer brings back what is saved")
	bare := func(text string) string {
		return strings.Replace(strings.Replace(text, "timer       10m\n", "", 1), "timer       none on rook\n", "timer       none\n", 1)
	}
	_, err = planMixed(t, bare(off), nil)
	assert.NoError(t, err)

	asked := strings.Replace(guarded, "step \"Lans\"", "precheck\n  saved\nstep \"Lans\"", 1)
	waive := Waiver{Check: "saved", Device: "a", Reason: "it is on the bench"}
	p, err := planMixed(t, asked, nil)
	require.NoError(t, err)
	assert.ErrorContains(t, p.Waive([]Waiver{waive}), "brings back what is saved")
	p, err = planMixed(t, bare(asked), nil)
	require.NoError(t, err)
	assert.NoError(t, p.Waive([]Waiver{waive}))
}

// What a precheck looks at must be read by the profiles in scope: else each device of that
// platform would be blocked at night, of which check and plan had said nothing.
func TestPrechecksLookAtWhatProfilesRead(t *testing.T) {
	one := func(table, column string, is runbook.ColumnType) map[string]runbook.Table {
		return map[string]runbook.Table{table: {Columns: map[string]runbook.ColumnType{column: is}}}
	}
	many := one("editors", "user", runbook.TextColumn)
	many["editors"] = runbook.Table{Many: true, Columns: many["editors"].Columns}
	for name, c := range map[string]struct {
		precheck string
		rook     Traits
		want     string // "" is planned
	}{
		"read":         {"storage   at least 20 MB", Traits{Tables: one("storage", "free", runbook.NumberColumn)}, ""},
		"no table":     {"storage   at least 20 MB", Traits{}, "storage cannot be looked at on r, which is in scope: the profile of rook does not read the table storage; write: storage off; or teach"},
		"no column":    {"storage   at least 20 MB", Traits{Tables: one("storage", "total", runbook.NumberColumn)}, "reads no column free of the table storage"},
		"another type": {"storage   at least 20 MB", Traits{Tables: one("storage", "free", runbook.TextColumn)}, "reads storage.free as text, and it must be number"},
		"off":          {"storage   off", Traits{}, ""},
		"no version":   {"version   4.2", Traits{}, "the profile of rook does not read the table version"},
		"no clock":     {"clock     within 30s", Traits{}, "the profile of rook does not read the table clock"},
		"editors":      {"alone", Traits{Tables: many}, ""},
		"one editor":   {"alone", Traits{Tables: one("editors", "user", runbook.TextColumn)}, "reads editors as one row, and many rows are looked at"},
	} {
		t.Run(name, func(t *testing.T) {
			terms := maps.Clone(withRook)
			c.rook.TellsName, c.rook.Connect, c.rook.Command = true, time.Second, time.Second
			terms["rook"] = c.rook
			tern := terms["tern"]
			tern.Tables = maps.Clone(tern.Tables)
			maps.Copy(tern.Tables, map[string]runbook.Table{"storage": one("storage", "free", runbook.NumberColumn)["storage"],
				"version": one("version", "version", runbook.TextColumn)["version"], "editors": many["editors"]})
			terms["tern"] = tern
			text := strings.Replace(strings.Replace(simpleBook, "timer       10m\n", "timer       10m\ntimer       none on rook\n", 1), "step \"Lans\"", "precheck\n  "+c.precheck+"\nstep \"Lans\"", 1)
			rb, err := runbook.Parse("x.runbook", []byte(text))
			require.NoError(t, err)
			require.NoError(t, rb.Compile(Schema(terms, nil)))
			f, err := fleet.Read("fleet.csv", []byte(mixed), []string{"tern", "rook"})
			require.NoError(t, err)
			_, _, err = Review(rb, f, terms)
			p, planned := Make(rb, f, nil, terms, night)
			require.NoError(t, planned)
			if c.want == "" {
				assert.NoError(t, err)
				assert.NoError(t, p.Readable())
				return
			}
			assert.ErrorContains(t, err, c.want)
			assert.ErrorContains(t, p.Readable(), c.want)
			check, _, _ := strings.Cut(c.precheck, " ")
			require.NoError(t, p.Waive([]Waiver{{Check: check, Device: "rook", Reason: "it cannot show it", By: "ada"}}))
			assert.NoError(t, p.Readable(), "waived for the platform")
		})
	}
}

// Of a value that a device does not have it is said who was to say it.
func TestWhoWasToSayAValue(t *testing.T) {
	f, err := fleet.Read("fleet.csv", []byte("name,address,platform,site,role\na,192.0.2.1,tern,ALD,quay\nb,192.0.2.2,tern,BRM,quay\n"), []string{"tern"})
	require.NoError(t, err)
	sites, err := fleet.ReadShared("sites.csv", "site", []byte("site,gate_lan\nALD,310\n"))
	require.NoError(t, err)
	require.NoError(t, f.Add(sites))
	rb, err := runbook.Parse("x.runbook", []byte(strings.Replace(simpleBook, "| port 3", "| lan <<gate_lan>>", 1)))
	require.NoError(t, err)
	require.NoError(t, rb.Compile(Schema(traits, f)))
	_, err = Make(rb, f, nil, traits, night)
	assert.ErrorContains(t, err, `neither the fleet nor sites.csv says it for site "BRM"`)
	assert.NotContains(t, err.Error(), `site "ALD"`)
}

// A platform that applies on trial, and in no other way, cannot be told to go without.
func TestATrialCannotBeLeftOut(t *testing.T) {
	terms := map[string]Traits{"tern": traits["tern"]}
	tern := terms["tern"]
	tern.Timer = TrialTimer
	terms["tern"] = tern
	for text, want := range map[string]string{
		simpleBook: "",
		strings.Replace(simpleBook, "timer       10m\n", "timer       10m\ntimer       none on tern\n", 1): "timer none on tern: its changes are applied on trial, and in no other way",
	} {
		rb, err := runbook.Parse("x.runbook", []byte(text))
		require.NoError(t, err)
		require.NoError(t, rb.Compile(Schema(terms, nil)))
		f, err := fleet.Read("fleet.csv", []byte("name,address,platform,site,role\na,192.0.2.1,tern,ALD,quay\n"), []string{"tern"})
		require.NoError(t, err)
		_, err = Make(rb, f, nil, terms, night)
		if want == "" {
			assert.NoError(t, err)
		} else {
			assert.ErrorContains(t, err, want)
		}
	}
}
