package fleet

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"metabasis/internal/core/kind"
)

const rowsFleet = `name,address,platform,site,role
a-1,192.0.2.1,tern,ALD,quay
a-2,192.0.2.2,tern,ALD,desk
b-1,192.0.2.3,tern,BRM,quay
`

// beside is a fleet with a table beside it.
func beside(t *testing.T, kinds Kinds, file, data string) (*Fleet, error) {
	f, err := Read("fleet.csv", []byte(rowsFleet), platforms)
	require.NoError(t, err)
	table, err := kinds.ReadTable(file, []byte(data))
	if err != nil {
		return f, err
	}
	return f, f.AddTables(table)
}

// lans are the values of the column lan that each device has, in the order of the fleet.
func lans(f *Fleet) (out []string) {
	for _, d := range f.Devices {
		var one []string
		for _, r := range f.Fields(d)["lans"].([]map[string]any) {
			one = append(one, fmt.Sprint(r["lan"]))
		}
		out = append(out, strings.Join(one, " "))
	}
	return out
}

func TestRowsOfADevice(t *testing.T) {
	const rows = "device,site,role,lan,title\n,,,10,staff\n,ALD,,20,crew\n,ALD,quay,30,gates\na-1,,,40,kiosk\na-1,,,41,kiosk\n"
	for rule, want := range map[string][]string{
		"join":    {"10 20 30 40 41", "10 20", "10"},
		"replace": {"40 41", "20", "10"},
	} {
		f, err := beside(t, nil, "tables/lans.csv", "# of the quays\nrows,"+rule+"\n"+rows)
		require.NoError(t, err)
		assert.Equal(t, want, lans(f), rule)
		assert.Equal(t, []kind.Column{{Name: "lan", Kind: kind.Kind{Type: kind.Number}}, {Name: "title", Kind: kind.Kind{Type: kind.Text}}}, f.Beside()["lans"])
	}
	_, err := beside(t, nil, "tables/lans.csv", rows)
	assert.ErrorContains(t, err, "tables/lans.csv:1: rows of all devices and of device a-1 are for a-1: it must be said whether the more special ones replace the others, or join them; write: rows,replace or rows,join")
}

// The same rows, in other writings.
func TestTablesAreTheSameHoweverTheyAreWritten(t *testing.T) {
	for file, data := range map[string]string{
		"lans.csv":   "rows,join\nsite,device,lan: number 2..4094\nALD,,20\n,a-1,30\n,a-1,30\n",
		"other.csv":  "rows;join\nsite;device;lan\nALD;;20\n;a-1;30\n",
		"tabs.csv":   "rows\tjoin\nsite\tdevice\tlan\nALD\t\t20\n\ta-1\t30\n",
		"lans.yaml":  "rows: join\nlist:\n  - {site: ALD, lan: 20}\n  - device: a-1\n    lan: 30\n",
		"again.yaml": "rows: join\nlist: [{lan: 20, site: ALD}, {lan: 30, device: a-1}]\n",
	} {
		f, err := beside(t, nil, "tables/"+file, data)
		require.NoError(t, err, file)
		f.Tables[0].Name = "lans"
		assert.Equal(t, []string{"20 30", "20", ""}, lans(f), file)
	}
}

func TestListsInAFleetOfYAML(t *testing.T) {
	f, err := Read("fleet.yaml", []byte(`devices:
  - name: a-1
    address: 192.0.2.1
    platform: tern
    gates: [7, 8]
    lans:
      - {lan: 10, title: staff}
      - {lan: 20, title: crew}
  - {name: a-2, address: 192.0.2.2, platform: tern, gates: 9}
`), platforms)
	require.NoError(t, err)
	assert.Equal(t, []string{"10 20", ""}, lans(f))
	assert.Equal(t, []any{7, 8}, f.Fields(f.Devices[0])["gates"])
	assert.Equal(t, []any{9}, f.Fields(f.Devices[1])["gates"])
	assert.Equal(t, []string{"gates"}, f.Columns)
	for text, why := range map[string]string{
		"lans: [{lan: 10}, 20]":             "a list in \"lans\" holds values, or it holds rows, not both",
		"lans: [{site: ALD, lan: 10}]":      `a row that stands in a device is its own: "site" is not said in it`,
		"gates: [\"a, b\"]":                 `"a, b" has a comma`,
		"lans: {lan: 10}":                   `"lans" must be one value, or a list`,
		"Gate: 7\n    gate: 8":              `columns "Gate" and "gate" are one and the same`,
		"gate: 7\n  - {Gate: 8, name: b-1}": `columns "gate" and "Gate" are one and the same`,
	} {
		_, err := Read("fleet.yaml", []byte("devices:\n  - name: a-1\n    address: 192.0.2.1\n    platform: tern\n    "+text+"\n"), platforms)
		assert.ErrorContains(t, err, why, text)
	}
}

func TestMistakesOfTables(t *testing.T) {
	for data, why := range map[string]string{
		"site,lan: number 2..4094\nALD,5000\n":           `tables/lans.csv:2:5: lan: 5000 is not from 2 to 4094; its kind is number 2..4094`,
		"site,gw: address\nALD,192.0.2.400\n":            `tables/lans.csv:2:5: gw: "192.0.2.400" is not an IP address`,
		"site,lan: nummer\nALD,5\n":                      `tables/lans.csv:1:6: column lan: unknown kind of value "nummer"; write: number`,
		"site,lan,Lan\nALD,1,2\n":                        `tables/lans.csv:1:10: columns "lan" and "Lan" are one and the same`,
		"site\nALD\n":                                    "there is no column beside those that say whose a row is",
		"site,name,lan\nALD,x,1\n":                       "whose a row is, the column device says",
		"site,1st\nALD,1\n":                              `column name "1st" cannot be used`,
		"rows,joins\nsite,lan\nALD,1\n":                  `tables/lans.csv:1:6: the rule "joins" is not known`,
		"":                                               "the file is empty",
		"device,site,lan\na-1,BRM,1\n":                   `a-1 is of site "ALD" and role "quay": it is nobody's`,
		"site,lan\nALD,1,2\n":                            "3 values under 2 columns",
		"rows,replace\nsite,role,lan\nALD,,1\n,quay,2\n": "rows of role quay and of site ALD are for a-1: which of them replace the others cannot be told",
	} {
		_, err := beside(t, nil, "tables/lans.csv", data)
		assert.ErrorContains(t, err, why, data)
	}
	_, err := beside(t, nil, "tables/Lans and gates.csv", "site,lan\nALD,1\n")
	assert.ErrorContains(t, err, "a table cannot be called \"Lans and gates\" in a runbook")
	_, err = beside(t, nil, "tables/site.csv", "site,lan\nALD,1\n")
	assert.ErrorContains(t, err, "a column of the fleet is called site, too")
	f, err := beside(t, nil, "tables/lans.csv", "device,site,lan\na-11,,1\n,ALX,2\n")
	require.NoError(t, err)
	assert.Equal(t, []string{"lans.csv has rows for what is not in the fleet: device a-11, site ALX"}, f.Notes)
}

func TestKindsInAFileOfTheirOwn(t *testing.T) {
	kinds, err := ReadKinds("columns.yaml", []byte("fleet:\n  gw: address\nlans:\n  lan: number 2..4094\n"))
	require.NoError(t, err)
	_, err = kinds.Read("fleet.csv", []byte("name,address,platform,gw\na-1,192.0.2.1,tern,192.0.2.400\n"), platforms)
	assert.EqualError(t, err, `fleet.csv:2:20: gw: "192.0.2.400" is not an IP address; its kind is address`)
	_, err = kinds.Read("fleet.yaml", []byte("devices:\n  - {name: a-1, address: 192.0.2.1, platform: tern, gw: x}\n"), platforms)
	assert.ErrorContains(t, err, `fleet.yaml:2:53: gw: "x" is not an IP address`)
	_, err = kinds.Read("fleet.csv", []byte("name,address,platform,gw: text\na-1,192.0.2.1,tern,x\n"), platforms)
	assert.ErrorContains(t, err, "gw is text here, and address in columns.yaml line 2")
	_, err = beside(t, kinds, "tables/lans.csv", "site,lan\nALD,1\n")
	assert.ErrorContains(t, err, "lan: 1 is not from 2 to 4094")
	assert.NoError(t, kinds.Unused(map[string][]string{"fleet": {"gw"}, "lans": {"lan"}}))
	assert.ErrorContains(t, kinds.Unused(map[string][]string{"fleet": {"gx"}, "lans": {"lan"}}), `columns.yaml:2: fleet has no column "gw"; write: gx`)
	assert.ErrorContains(t, kinds.Unused(map[string][]string{"fleet": {"gw"}}), `there is no file of columns called "lans"`)
	for text, why := range map[string]string{
		"fleet: address\n":            `under "fleet" stand its columns`,
		"fleet:\n  gw: [a]\n":         `the kind of "gw" is one text`,
		"fleet:\n  gw: adress\n":      `columns.yaml:2:3: gw: unknown kind of value "adress"`,
		"fleet:\n  gw: text\n  GW: x": "",
	} {
		_, err := ReadKinds("columns.yaml", []byte(text))
		assert.ErrorContains(t, err, why, text)
	}
}

// A fleet file with semicolons stays one when it is changed.
func TestSeparatorsStay(t *testing.T) {
	data := []byte("name;address;platform;gate: number 1..9\na-1;192.0.2.1;tern;7\n")
	changed, err := Add(data, map[string]string{"name": "a-2", "address": "192.0.2.2", "platform": "tern", "gate": "8"})
	require.NoError(t, err)
	assert.Equal(t, string(data)+"a-2;192.0.2.2;tern;8\n", string(changed))
	changed, err = Replace(changed, Replacement{Old: "a-1", New: "a-2", Why: "dead"})
	require.NoError(t, err)
	f, err := Read("fleet.csv", changed, platforms)
	require.NoError(t, err)
	assert.Len(t, f.Devices, 1)
	assert.Len(t, f.Retired, 1)
}

// Whatever rows there are, a device has all that join, and under replace only those of the
// most special rank that it has any of.
func TestWhichRowsCount(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		d := Device{Name: "a-1", Site: "ALD", Role: "quay"}
		table := &Rows{by: map[whose][]int{}, join: rapid.Bool().Draw(t, "join"), Columns: []kind.Column{{Name: "n", Kind: kind.Kind{Type: kind.Number}}}}
		best, all := -1, map[int][]int{}
		for i := range rapid.IntRange(0, 8).Draw(t, "rows") {
			w := whose{rapid.SampledFrom([]string{"", "a-1", "b-1"}).Draw(t, "device"), rapid.SampledFrom([]string{"", "ALD", "BRM"}).Draw(t, "site"), rapid.SampledFrom([]string{"", "quay", "desk"}).Draw(t, "role")}
			table.by[w] = append(table.by[w], i)
			table.rows = append(table.rows, besideRow{i, map[string]any{"n": i}, fmt.Sprint(i)})
			if (w.device == "" || w.device == "a-1") && (w.site == "" || w.site == "ALD") && (w.role == "" || w.role == "quay") {
				all[w.rank()] = append(all[w.rank()], i)
				best = max(best, w.rank())
			}
		}
		want := map[int]bool{}
		for rank, rows := range all {
			for _, i := range rows {
				if table.join || rank == best {
					want[i] = true
				}
			}
		}
		got, last := map[int]bool{}, -1
		for _, r := range table.Of(d) {
			i := r["n"].(int)
			assert.Greater(t, i, last, "in the order of the file")
			got[i], last = true, i
		}
		assert.Equal(t, want, got)
	})
}

func FuzzReadTable(f *testing.F) {
	f.Add("lans.csv", []byte("rows,join\nsite,lan: list of number\nALD,\"1, 2\"\n"))
	f.Add("lans.yaml", []byte("rows: join\nlist: [{site: ALD, lan: [1, 2]}]\n"))
	f.Add("columns.yaml", []byte("fleet:\n  gw: address\n"))
	f.Fuzz(func(t *testing.T, file string, data []byte) {
		kinds, err := ReadKinds(file, data)
		if err != nil {
			kinds = nil
		}
		table, err := kinds.ReadTable(file, data)
		if err != nil {
			return
		}
		_, _ = kinds.Read("fleet.yaml", data, platforms)
		for _, r := range table.Of(Device{Name: "a-1", Site: "ALD"}) {
			for _, c := range table.Columns {
				assert.Contains(t, r, c.Name)
			}
		}
	})
}
