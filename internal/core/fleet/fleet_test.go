package fleet

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var platforms = []string{"tern", "osier"}

const goodCSV = `# the quays
name,address,port,platform,site,role,pair,via,login,gate_port
ald-quay-1,192.0.2.11,,tern,ALD,quay,ald standby,,crew,7
ald-quay-2,192.0.2.12,2202,tern,ALD,quay,ald,ald-quay-1,crew,"8"
`

const goodYAML = `devices:
  - name: ald-quay-1
    address: 192.0.2.11
    platform: tern
    site: ALD
    role: quay
    pair: ald standby
    login: crew
    gate_port: 7
  - {name: ald-quay-2, address: 192.0.2.12, port: 2202, platform: tern, site: ALD, role: quay, pair: ald, via: ald-quay-1, login: crew, gate_port: "8"}
`

func TestCSVAndYAMLGiveTheSameFleet(t *testing.T) {
	a, err := Read("fleet.csv", []byte("\xef\xbb\xbf"+goodCSV), platforms)
	require.NoError(t, err)
	b, err := Read("fleet.yaml", []byte(goodYAML), platforms)
	require.NoError(t, err)
	for i := range a.Devices {
		a.Devices[i].Line, b.Devices[i].Line = 0, 0
	}
	assert.Equal(t, a.Devices, b.Devices)
	assert.Equal(t, []string{"gate_port"}, a.Columns)
	assert.True(t, a.Devices[0].Standby)
	assert.Equal(t, "8", a.Devices[1].Values["gate_port"])
	assert.Empty(t, a.Above(a.Devices[0]))
	assert.Len(t, a.Above(a.Devices[1]), 1)
}

func TestPlainList(t *testing.T) {
	f, err := Read("spare.txt", []byte("platform tern\n192.0.2.1 # first\n\n2001:db8::5\n"), platforms)
	require.NoError(t, err)
	require.Len(t, f.Devices, 2)
	assert.Equal(t, "192.0.2.1", f.Devices[0].Name)
	assert.Equal(t, "2001-db8--5", f.Devices[1].Name)
	assert.Equal(t, "2001:db8::5", f.Devices[1].Address)
}

func TestAllErrorsAtOnceWithTheirLines(t *testing.T) {
	_, err := Read("fleet.csv", []byte(`name,address,platform,pair,via,port
a,192.0.2.1,tern,p,,
a,192.0.2.1,tern,p,,
b,192.0.2.300,turn,p,nobody,99999
c,192.0.2.4,tern,q,d,
d,192.0.2.5,tern,,c,
e e,192.0.2.6,tern,r two,,,9
`), platforms)
	for _, want := range []string{
		"fleet.csv:3:1: name a stands already on line 2",
		"fleet.csv:3:3: address 192.0.2.1 stands already on line 2",
		"fleet.csv:4:3: address \"192.0.2.300\" of b cannot be read",
		"fleet.csv:4:15: no profile for platform \"turn\" of b; write: tern",
		"fleet.csv:4:20: pair p has 3 members; a pair is two",
		"fleet.csv:4:22: b is reached via \"nobody\", which is not in the fleet",
		"fleet.csv:4:29: port \"99999\" of b cannot be used",
		"fleet.csv:5:18: pair q has only one member, c",
		"via goes round in a circle: c via d via c",
		"fleet.csv:7:1: name \"e e\" cannot be a host name",
		"fleet.csv:7:28: 7 values under 6 columns",
	} {
		assert.ErrorContains(t, err, want)
	}
}

func TestBadFiles(t *testing.T) {
	for name, c := range map[string]struct{ file, data, want string }{
		"empty":          {"fleet.csv", "", "its first line must name the columns"},
		"header only":    {"fleet.csv", "name,address,platform\n", "no devices in this file"},
		"column missing": {"fleet.csv", "name,platform\na,tern\n", `there is no column "address"`},
		"column twice":   {"fleet.csv", "name,address,platform,site,site\n", `column "site" stands twice`},
		"bad column":     {"fleet.csv", "name,address,platform,Gate Port\n", `column name "gate port" cannot be used`},
		"quote":          {"fleet.csv", "name,address,platform\n\"a,192.0.2.1,tern\n", "fleet.csv:2"},
		"yaml syntax":    {"fleet.yaml", "devices:\n  - name: [a\n", "fleet.yaml:2"},
		"yaml no list":   {"fleet.yaml", "devices: 3\n", "no list of devices"},
		"yaml nested":    {"fleet.yaml", "devices:\n  - name: a\n    site: [x]\n", `"site" must be one value`},
		"list":           {"l.txt", "192.0.2.1\n", "no line names their platform"},
		"ending":         {"fleet.doc", "", "cannot tell what kind"},
		"jump":           {"fleet.csv", "name,address,platform,jump\na,192.0.2.1,tern,b@c@d\n", `jump host "b@c@d" of a cannot be read`},
		"protocol":       {"fleet.csv", "name,address,platform,protocol\na,192.0.2.1,tern,carrier\n", `protocol "carrier" of a is not known`},
		"algorithms":     {"fleet.csv", "name,address,platform,algorithms\na,192.0.2.1,tern,weak\n", `algorithms "weak" of a is not known`},
		"escape":         {"fleet.csv", "name,address,platform,site\na,192.0.2.1,tern,\x1b[2JALD\n", "2:18: the value of site has a control character"},
		"reversed":       {"fleet.yaml", "devices:\n  - {name: a, address: 192.0.2.1, platform: tern, floor: \"\u202e1\"}\n", "the value of floor has a control character"},
		"not a fleet":    {"fleet.csv", "<!doctype html>\n<p>hello\n<p>hello\n", "this is not a fleet file"},
		"utf-16":         {"fleet.csv", "\xff\xfea", "half a character"},
		"two standby":    {"fleet.csv", "name,address,platform,pair\na,192.0.2.1,tern,p standby\nb,192.0.2.2,tern,p standby\n", "both members of pair p are marked standby"},
	} {
		_, err := Read(c.file, []byte(c.data), platforms)
		assert.ErrorContains(t, err, c.want, name)
	}
}

func FuzzRead(f *testing.F) {
	f.Add("fleet.csv", []byte(goodCSV))
	f.Add("fleet.yaml", []byte(goodYAML))
	f.Add("fleet.csv", []byte("name,address,platform,jump,protocol,algorithms,clear_login\na,192.0.2.1,tern,crew@bastion.example:22 inner,telnet,old,shared\n"))
	f.Add("fleet.txt", []byte("platform tern\n192.0.2.1\n"))
	f.Fuzz(func(t *testing.T, file string, data []byte) {
		fl, err := Read(file, data, platforms)
		if err == nil {
			require.NotEmpty(t, fl.Devices)
			for _, d := range fl.Devices {
				require.NotEmpty(t, d.Name)
				require.NotEmpty(t, d.Address)
			}
		}
	})
}
