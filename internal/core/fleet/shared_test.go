package fleet

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestValuesBySiteAndRole(t *testing.T) {
	f, err := Read("ws/fleet.csv", []byte("name,address,platform,site,role,crew_lan\na-1,192.0.2.1,tern,ALD,quay,\na-2,192.0.2.2,tern,ALD,desk,30\nb-1,192.0.2.3,tern,BRM,quay,\n"), platforms)
	require.NoError(t, err)
	sites, err := ReadShared("ws/sites.csv", "site", []byte("# lans\nsite, crew_lan, town\nALD, 20, Alder\n"))
	require.NoError(t, err)
	roles, err := ReadShared("ws/roles.csv", "role", []byte("role,gate_port\nquay,7\n"))
	require.NoError(t, err)
	require.NoError(t, f.Add(sites, roles))
	assert.Equal(t, []string{"crew_lan", "town", "gate_port"}, f.Columns)
	for i, want := range []struct{ lan, lanFrom, port, portFrom string }{
		{"20", "sites.csv line 3", "7", "roles.csv line 2"},
		{"30", "fleet.csv line 3", "", `neither the fleet nor roles.csv says it for role "desk"`},
		{"", `neither the fleet nor sites.csv says it for site "BRM"`, "7", "roles.csv line 2"},
	} {
		d := f.Devices[i]
		assert.Equal(t, want.lan, d.Values["crew_lan"], d.Name)
		assert.Equal(t, want.lanFrom, f.Source(d, "crew_lan"), d.Name)
		assert.Equal(t, want.port, d.Values["gate_port"], d.Name)
		assert.Equal(t, want.portFrom, f.Source(d, "gate_port"), d.Name)
	}
	again, err := ReadShared("ws/roles.csv", "role", []byte("role,crew_lan\nquay,7\n"))
	require.NoError(t, err)
	assert.ErrorContains(t, f.Add(sites, again), `roles.csv:1: column "crew_lan" stands in sites.csv, too`)
}

// A column is one of numbers when each value that stands in it is a whole number, as it
// would be written: what stands in a line must be what stands in the file.
func TestColumnsOfNumbers(t *testing.T) {
	f, err := Read("fleet.csv", []byte("name,address,platform,site,lan,floor,version,key,note,depth\n"+
		"a-1,192.0.2.1,tern,ALD,20,1,1.10,007,,-3\na-2,192.0.2.2,tern,BRM,,2,2,12,,4\n"), platforms)
	require.NoError(t, err)
	assert.Equal(t, []string{"lan", "floor", "depth"}, numbers(f))
	assert.Equal(t, 20, f.Fields(f.Devices[0])["lan"])
	assert.Nil(t, f.Fields(f.Devices[1])["lan"])
	assert.Equal(t, "007", f.Fields(f.Devices[0])["key"])
	assert.Equal(t, "", f.Fields(f.Devices[0])["note"])
	sites, err := ReadShared("sites.csv", "site", []byte("site,lan,gate\nBRM,b20,7\n"))
	require.NoError(t, err)
	require.NoError(t, f.Add(sites))
	assert.Equal(t, []string{"floor", "depth", "gate"}, numbers(f), "one value that is none makes a text of the column")
}

func TestSharedValuesThatCannotBeRead(t *testing.T) {
	for text, want := range map[string]string{
		"":                              "the file is empty",
		"crew_lan,site\n20,ALD\n":       `the first column must be "site"`,
		"site,name\nALD,x\n":            `"name" is what the fleet file says of each device`,
		"site,Crew-Lan\nALD,20\n":       `column name "crew-lan" cannot be used`,
		"site,a,a\nALD,1,2\n":           `column "a" stands twice`,
		"site,a\nALD,1\nALD,2\n":        "site ALD stands already on line 2",
		"site,a\n,1\n":                  "this line says of no site",
		"site,a\nALD,1,2\n":             "3 values under 2 columns",
		"site,a\nALD,\"x\x07\"\n":       "has a control character",
		"site,a\nALD,\"open\nALD,\"\"x": "sites.csv:",
	} {
		_, err := ReadShared("sites.csv", "site", []byte(text))
		assert.ErrorContains(t, err, want, "%q", text)
	}
}

func FuzzReadShared(f *testing.F) {
	f.Add([]byte("site,crew_lan\nALD,20\n"))
	f.Fuzz(func(t *testing.T, data []byte) {
		if s, err := ReadShared("sites.csv", "site", data); err == nil {
			assert.NotNil(t, s)
		}
	})
}

// numbers are the columns that hold numbers.
func numbers(f *Fleet) (out []string) {
	for _, c := range f.Further() {
		if c.Kind.IsNumber() {
			out = append(out, c.Name)
		}
	}
	return out
}
