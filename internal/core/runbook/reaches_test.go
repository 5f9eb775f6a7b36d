package runbook

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// reachSchema is what the platforms of these tests read: tern reaches addresses, skerry does not.
var reachSchema = Schema{Platforms: []string{"tern", "skerry"},
	Of:      map[string]map[string]Table{"tern": {}, "skerry": {}},
	Reaches: map[string]bool{"tern": true}}

// reachBook has a condition as a precheck of its own.
func reachBook(t *testing.T, cond string) (*Runbook, error) {
	t.Helper()
	rb, err := Parse("quays.runbook", []byte("runbook \"Quays\"\n  window    none\n\nask\n  log_host  address \"Log host\" = 198.51.100.14\n\nscope\n  true\n\nprecheck\n  check     \"It\" where "+
		cond+"\n\ntimer       none\n\nstep \"Look\"\n  expect    true within 1s\n"))
	require.NoError(t, err)
	return rb, rb.Compile(reachSchema)
}

func TestWhetherAnAddressAnswers(t *testing.T) {
	all, half, none := Reached{Sent: 4, Answered: 4}, Reached{Sent: 4, Answered: 2}, Reached{Sent: 4}
	log := ReachAsk{To: "198.51.100.14"}
	from := func(name string) ReachAsk { return ReachAsk{To: "198.51.100.14", From: name} }
	for cond, c := range map[string]struct {
		asks    []ReachAsk
		reached map[ReachAsk]Reached
		holds   bool
		why     string
		unknown string
	}{
		`reaches "198.51.100.14"`:                             {[]ReachAsk{log}, map[ReachAsk]Reached{log: half}, true, "", ""},
		`reaches "<<log_host>>"`:                              {[]ReachAsk{log}, map[ReachAsk]Reached{log: none}, false, "198.51.100.14: 0 of 4 came back", ""},
		`not reaches "<<log_host>>"`:                          {[]ReachAsk{log}, map[ReachAsk]Reached{log: all}, false, "198.51.100.14: 4 of 4 came back", ""},
		`reaches "<<log_host>>" without loss`:                 {[]ReachAsk{log}, map[ReachAsk]Reached{log: half}, false, "198.51.100.14: 2 of 4 came back", ""},
		`reaches "<<log_host>>" from here`:                    {[]ReachAsk{from("here")}, map[ReachAsk]Reached{from("here"): all}, true, "", ""},
		`reaches "<<log_host>>" from brm-gate-1 without loss`: {[]ReachAsk{from("brm-gate-1")}, map[ReachAsk]Reached{from("brm-gate-1"): all}, true, "", ""},
		`reaches "<<log_host>>" from "<<via>>"`: {[]ReachAsk{from("brm-gate-1")}, map[ReachAsk]Reached{from("brm-gate-1"): none}, false,
			"198.51.100.14 from brm-gate-1: 0 of 4 came back", ""},
		`site == "ALD" and reaches "<<log_host>>" and reaches "<<log_host>>" from here`: {[]ReachAsk{log, from("here")},
			map[ReachAsk]Reached{log: all, from("here"): none}, false, "198.51.100.14 from here: 0 of 4 came back", ""},
		`site == "BRM" or reaches "<<log_host>>"`: {[]ReachAsk{log}, map[ReachAsk]Reached{log: {Not: "it is away"}}, false, "", "whether 198.51.100.14 answers is not known: it is away"},
		`reaches "192.0.2.1"`:                     {[]ReachAsk{{To: "192.0.2.1"}}, nil, false, "", "it was not looked at"},
		`site == "reaches nothing"`:               {nil, nil, false, "site is ALD, wanted reaches nothing", ""},
	} {
		rb, err := reachBook(t, cond)
		require.NoError(t, err, cond)
		where := rb.Prechecks[0].Where
		env := rb.DeviceEnv(map[string]any{"site": "ALD", "via": "brm-gate-1"}, map[string]string{"log_host": "198.51.100.14"})
		assert.Equal(t, c.asks, where.Reaches(env), cond)
		assert.Equal(t, c.asks != nil, where.Late(), cond)
		env = env.WithReached(c.reached)
		ok, err := where.Eval(env)
		if c.unknown != "" {
			require.ErrorContains(t, err, c.unknown, cond)
			assert.Contains(t, where.Explain(env), c.unknown, cond)
			continue
		}
		require.NoError(t, err, cond)
		assert.Equal(t, c.holds, ok, cond)
		if !c.holds {
			assert.Equal(t, c.why, where.Explain(env), cond)
		}
	}
}

func TestMistakesInWhatIsToAnswer(t *testing.T) {
	for cond, want := range map[string]string{
		`reaches "<<lag_host>>"`:                     `nothing is called "lag_host" here`,
		`reaches 198.51.100.14`:                      `write: reaches "198.51.100.14"`,
		`reaches("198.51.100.14")`:                   `write: reaches "198.51.100.14"`,
		`reach "198.51.100.14"`:                      `write: reaches "198.51.100.14"`,
		`reaches "198.51.100.14" form here`:          "with from here, from a device",
		`reaches "198.51.100.14" from`:               "",
		`any([1, 2], reaches "<<string(#)>>")`:       "of the device, not of each row",
		`reaches "198.51.100.14" == "4 came back"`:   "",
		`reaches "198.51.100.14" and sight == "ALD"`: `nothing is called "sight" here`,
	} {
		_, err := reachBook(t, cond)
		require.Error(t, err, cond)
		assert.Contains(t, err.Error(), want, cond)
	}
	_, err := ParseScope("scope", `reaches "198.51.100.14"`, reachSchema)
	require.ErrorContains(t, err, "whether an address answers is looked at on the night, and the scope is settled before")
	rb, err := reachBook(t, `reaches "198.51.100.14"`)
	require.NoError(t, err)
	require.ErrorContains(t, rb.Suits("skerry", reachSchema, nil).Err(), "the profile of skerry does not say how it reaches an address")
	require.NoError(t, rb.Suits("tern", reachSchema, nil).Err())
	rb, err = reachBook(t, `reaches "198.51.100.14" from here`)
	require.NoError(t, err)
	require.NoError(t, rb.Suits("skerry", reachSchema, nil).Err(), "it is not the device that reaches it")
}

// What is asked for may stand in the line of a shell: nothing but an address or a name gets there.
func TestWhatIsAnAddress(t *testing.T) {
	for to, ok := range map[string]bool{
		"198.51.100.14": true, "2001:db8::7": true, "fe80::1%eth0": true, "log.example.net": true, "desk": true,
		"": false, "<nil>": false, "-f": false, "192.0.2.1; reboot": false, "$(reboot)": false, "a b": false, "fe80::1%eth0;reboot": false,
		"192.0.2.400": false, "7": false, "desk-7": true, "192.0.2.0/24": false, "198.51.100.14:22": false, "a\nb": false, "name.": false,
	} {
		assert.Equal(t, ok, ReachAsk{To: to}.Check() == nil, to)
	}
	for to, ok := range map[string]bool{"198.51.100.14:22": true, "[2001:db8::7]:22": true, "desk:22": true, "desk:0": false, "desk:70000": false, ":22": false, "desk:ssh": false} {
		assert.Equal(t, ok, ReachAsk{To: to, From: Here}.Check() == nil, to)
	}
	rapid.Check(t, func(t *rapid.T) {
		to := rapid.String().Draw(t, "to")
		if (ReachAsk{To: to}).Check() == nil {
			assert.NotRegexp(t, `[\s;&|$<>()'"\\\x60*?\[\]{}!#~]|^-`, to)
		}
	})
}

func TestWhatCameBackInWords(t *testing.T) {
	for want, r := range map[string]Reached{
		"3 of 4 came back":      {Sent: 4, Answered: 3, Took: time.Millisecond},
		"3 came back":           {Answered: 3},
		"nothing came back":     {},
		"not known: it is away": {Sent: 4, Not: "it is away"},
	} {
		assert.Equal(t, want, r.String())
	}
}
