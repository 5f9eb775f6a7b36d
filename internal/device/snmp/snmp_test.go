package snmp

import (
	"context"
	"net"
	"strconv"
	"testing"
	"time"

	"github.com/gosnmp/gosnmp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metabasis/internal/core/driver"
	"metabasis/internal/device/profile"
)

const signProfile = `platform: sign
connect: {protocol: snmp, prompt_within: 1s}
snmp:
  version: 2c
  retries: 0
  objects:
    text: {oid: 1.3.6.1.4.1.32473.1.0, type: text}
    bytes: {oid: 1.3.6.1.4.1.32473.2.0, type: hex}
    number: {oid: 1.3.6.1.4.1.32473.3.0, type: number}
    gauge: {oid: 1.3.6.1.4.1.32473.4.0, type: unsigned}
    count: {oid: 1.3.6.1.4.1.32473.5.0, type: counter}
    address: {oid: 1.3.6.1.4.1.32473.6.0, type: address}
    kind: {oid: 1.3.6.1.4.1.32473.7.0, type: oid}
    now: {oid: 1.3.6.1.4.1.32473.8.0, type: date}
    row: {oid: 1.3.6.1.4.1.32473.9.1, type: text, each: true}
  backup: [text, number]
timer: {kind: none}
`

func sign(t require.TestingT) *profile.Profile {
	p, err := profile.Load("sign.yaml", []byte(signProfile))
	require.NoError(t, err)
	return p
}

// What can be set is told as it was set.
func TestValuesAreToldAsTheyAreSet(t *testing.T) {
	p := sign(t)
	for line, want := range map[string]string{
		"set text = Quay 3":            "Quay 3",
		`set text = "two\nlines"`:      `"two\nlines"`,
		`set text = ""`:                `""`,
		"set bytes = 00ff":             "00ff",
		"set number = -2147483648":     "-2147483648",
		"set gauge = 4294967295":       "4294967295",
		"set address = 192.0.2.40":     "192.0.2.40",
		"set kind = 1.3.6.1.4.1.32473": "1.3.6.1.4.1.32473",
		"set row[1.4] = x":             "x",
	} {
		s, err := p.ParseSetting(line)
		require.NoError(t, err, line)
		v, err := variable(s)
		require.NoError(t, err, line)
		text, err := told(s.Object, v)
		require.NoError(t, err, line)
		assert.Equal(t, want, text, line)
	}
	for line, want := range map[string]string{
		"set text":                 "is no change; write set OBJECT = VALUE, and under want OBJECT = VALUE",
		"set boat = 1":             "the profile knows no object boat",
		"set row = 1":              "write row[ROW]",
		"set text[1] = 1":          "write it without [1]",
		"set count = 1":            "cannot be set",
		"set number = four":        "a whole number of 32 bits is wanted",
		"set number = 2147483648":  "a whole number of 32 bits is wanted",
		"set gauge = -1":           "from 0 on",
		"set bytes = 0":            "pairs of hexadecimal digits",
		"set address = 2001:db8::": "an IPv4 address is wanted",
		"set now = 2026-11-26":     "cannot be set",
		`set text = "x`:            "is no quoted text",
		"set ..1 = 2":              `"..1" is no object`,
	} {
		s, err := p.ParseSetting(line)
		if err == nil {
			_, err = variable(s)
		}
		assert.ErrorContains(t, err, want, line)
	}
}

func TestDates(t *testing.T) {
	for want, b := range map[string][]byte{
		"2026-11-26T02:03:04Z": {7, 0xea, 11, 26, 2, 3, 4, 0},
		"2026-11-26T00:03:04Z": {7, 0xea, 11, 26, 2, 3, 4, 0, '+', 2, 0},
		"2026-11-26T04:33:04Z": {7, 0xea, 11, 26, 2, 3, 4, 0, '-', 2, 30},
	} {
		got, err := date(b)
		require.NoError(t, err)
		assert.Equal(t, want, got)
	}
	_, err := date([]byte{1, 2})
	assert.ErrorContains(t, err, "a date of 2 octets")
}

// quiet keeps nothing.
type quiet struct{}

func (quiet) Sent(string, string) {}
func (quiet) Got([]string)        {}
func (quiet) Note(string)         {}

// peer answers every message with the same bytes; then it says nothing.
type peer struct {
	net.Conn
	says  []byte
	times int
}

func (p *peer) Write(b []byte) (int, error) { return len(b), nil }
func (p *peer) Read(b []byte) (int, error) {
	if p.times--; p.times < 0 {
		return 0, context.DeadlineExceeded
	}
	return copy(b, p.says), nil
}
func (p *peer) Close() error                { return nil }
func (p *peer) SetDeadline(time.Time) error { return nil }

// session is a session with a peer, as if it had begun.
func session(t require.TestingT, version string, conn net.Conn) *Session {
	p := *sign(t)
	p.Snmp.Version, p.Snmp.Auth, p.Snmp.Privacy = version, "SHA-256", "AES"
	opt := profile.Options{User: "crew", Secrets: map[string]string{"password": "harbour-lamp", "privacy": "slow-turnstile"}, Log: quiet{}}
	s := &Session{Confided: profile.NewConfided(&p, opt.Secrets), p: &p, log: quiet{}}
	var err error
	s.g, err = client(&p, opt)
	require.NoError(t, err)
	s.g.Conn = conn
	return s
}

// FuzzAnswers reads whatever a peer answers, in either version; nothing of it is taken for
// a configuration that was not asked for.
func FuzzAnswers(f *testing.F) {
	g := &gosnmp.SnmpPacket{Version: gosnmp.Version2c, Community: "harbour-lamp", PDUType: gosnmp.GetResponse,
		Variables: []gosnmp.SnmpPDU{{Name: ".1.3.6.1.4.1.32473.1.0", Type: gosnmp.OctetString, Value: []byte("x")}}}
	if b, err := g.MarshalMsg(); err == nil {
		f.Add(b, true)
		f.Add(b, false)
	}
	f.Fuzz(func(t *testing.T, says []byte, v3 bool) {
		version := "2c"
		if v3 {
			version = "3"
		}
		s := session(t, version, &peer{says: says, times: 3})
		text, err := s.Config(t.Context(), driver.Running)
		if err == nil && text == "" {
			t.Fatal("nothing was read, and it is said to be the configuration")
		}
		_, _ = s.read(t.Context(), []string{"row"})
	})
}

// A table without an end, or one that goes round, costs bounded time and memory.
func TestATableWithoutAnEnd(t *testing.T) {
	for name, same := range map[string]bool{"the same row again": true, "always one more": false} {
		t.Run(name, func(t *testing.T) {
			us, them := net.Pipe()
			defer us.Close()
			go func() {
				defer them.Close()
				buf := make([]byte, 64<<10)
				for n := 1; ; n++ {
					size, err := them.Read(buf)
					if err != nil {
						return
					}
					asked, err := gosnmp.Default.SnmpDecodePacket(buf[:size])
					if err != nil {
						return
					}
					row := n
					if same {
						row = 1
					}
					out := &gosnmp.SnmpPacket{Version: gosnmp.Version2c, Community: "harbour-lamp", PDUType: gosnmp.GetResponse, RequestID: asked.RequestID}
					for i := range 20 {
						at := row*20 + i
						if same {
							at = 1
						}
						out.Variables = append(out.Variables, gosnmp.SnmpPDU{Name: ".1.3.6.1.4.1.32473.9.1." + strconv.Itoa(at), Type: gosnmp.OctetString, Value: []byte("x")})
					}
					b, err := out.MarshalMsg()
					if err != nil {
						return
					}
					if _, err := them.Write(b); err != nil {
						return
					}
				}
			}()
			_, err := session(t, "2c", us).read(t.Context(), []string{"row"})
			var odd *driver.Unclear
			require.ErrorAs(t, err, &odd)
			assert.Contains(t, odd.Got, map[bool]string{true: "rows that go back", false: "more than 10000 rows"}[same])
		})
	}
}
