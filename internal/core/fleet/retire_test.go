package fleet

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const before = `# the quays of Alder
name,address,platform,site,role,pair,via,gate_port
ald-quay-1, 192.0.2.12 ,tern,ALD,quay,ald-gates,,7
"ald-quay-2",192.0.2.13,tern,ALD,quay,ald-gates standby,ald-quay-1,7

# new hardware
ald-quay-9,192.0.2.19,tern
`

func TestADeviceTakesAnothersPlace(t *testing.T) {
	got, err := Replace([]byte(before), Replacement{Old: "ald-quay-1", New: "ald-quay-9", Why: "2026-12-02, replaced by ald-quay-9", Set: map[string]string{"serial": "T-1,7", "version": "4.2"}})
	require.NoError(t, err)
	assert.Equal(t, `# the quays of Alder
name,address,platform,site,role,pair,via,gate_port,retired,serial,version
ald-quay-1,192.0.2.12,tern,ALD,quay,,,7,"2026-12-02, replaced by ald-quay-9"
ald-quay-2,192.0.2.13,tern,ALD,quay,ald-gates standby,ald-quay-9,7

# new hardware
ald-quay-9,192.0.2.19,tern,ALD,quay,ald-gates,,7,,"T-1,7",4.2
`, string(got))
	f, err := Read("fleet.csv", got, []string{"tern"})
	require.NoError(t, err)
	assert.Len(t, f.Devices, 2)
	assert.Equal(t, []Retired{{"ald-quay-1", "2026-12-02, replaced by ald-quay-9", 3}}, f.Retired)
	d, ok := f.Get("ald-quay-9")
	require.True(t, ok)
	assert.Equal(t, "T-1,7", d.Serial)
	assert.Equal(t, "ald-gates", d.Pair)
	_, ok = f.Get("ald-quay-1")
	assert.False(t, ok, "it is not deleted, and in no scope")

	crlf, err := Replace([]byte(strings.ReplaceAll(before, "\n", "\r\n")), Replacement{Old: "ald-quay-1", New: "ald-quay-9", Why: "x"})
	require.NoError(t, err)
	assert.Equal(t, strings.Count(string(crlf), "\n"), strings.Count(string(crlf), "\r\n"), "lines end as they did")
	for _, r := range []Replacement{{Old: "x", New: "ald-quay-9"}, {Old: "ald-quay-1", New: "x"}} {
		_, err := Replace([]byte(before), r)
		assert.ErrorContains(t, err, "there is no line of x")
	}
	_, err = Replace(got, Replacement{Old: "ald-quay-1", New: "ald-quay-2", Why: "again"})
	assert.ErrorContains(t, err, "ald-quay-1 is retired already: 2026-12-02, replaced by ald-quay-9")
	_, err = Replace([]byte(before), Replacement{Old: "ald-quay-1", New: "ald-quay-1"})
	assert.ErrorContains(t, err, "cannot take its own place")
	_, err = Replace([]byte("name,address,platform\n\"a\nb\",192.0.2.1,tern\n"), Replacement{Old: "a", New: "b"})
	assert.ErrorContains(t, err, "goes over several lines")

	added, err := Add([]byte(before), map[string]string{"name": "ald-quay-10", "address": "192.0.2.20", "platform": "tern"})
	require.NoError(t, err)
	f, err = Read("fleet.csv", added, []string{"tern"})
	require.NoError(t, err)
	assert.Len(t, f.Devices, 4)
}
