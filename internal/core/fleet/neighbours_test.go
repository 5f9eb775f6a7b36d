package fleet

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func placed(t require.TestingT, csv string, neighbours map[string][]string) *Fleet {
	f, err := Read("fleet.csv", []byte("name,address,platform,via\n"+csv), []string{AnyPlatform})
	require.NoError(t, err)
	return f.Placed(Seen{At: time.Date(2026, 11, 25, 22, 10, 0, 0, time.Local), Neighbours: neighbours})
}

func TestNeighboursTellTheWay(t *testing.T) {
	for _, c := range []struct {
		name       string
		csv        string
		neighbours map[string][]string
		want       map[string][]string
	}{
		{"a chain from the one that knows somebody outside", "near,192.0.2.1,tern,\nmiddle,192.0.2.2,tern,\nfar,192.0.2.3,tern,\n",
			map[string][]string{"near": {"ops-core", "middle"}, "middle": {"near", "far"}, "far": {"middle"}},
			map[string][]string{"near": nil, "middle": {"near"}, "far": {"middle", "near"}}},
		{"a ring says nothing, what hangs on it does", "a,192.0.2.1,tern,\nb,192.0.2.2,tern,\nc,192.0.2.3,tern,\nleaf,192.0.2.4,tern,\n",
			map[string][]string{"a": {"b", "c"}, "b": {"a", "c", "leaf"}, "c": {"a", "b"}, "leaf": {"b"}},
			map[string][]string{"a": nil, "b": nil, "c": nil, "leaf": {"b"}}},
		{"the file goes before what neighbours say", "a,192.0.2.1,tern,\nb,192.0.2.2,tern,a\n",
			map[string][]string{"a": {"b"}, "b": {"a"}},
			map[string][]string{"a": nil, "b": {"a"}}},
		{"a neighbour that nobody knows may be where we come in", "a,192.0.2.1,tern,\nb,192.0.2.2,tern,\n",
			map[string][]string{"a": {"somebody"}, "b": {"a", "somebody"}},
			map[string][]string{"a": nil, "b": nil}},
		{"nothing was read", "a,192.0.2.1,tern,\n", nil, map[string][]string{"a": nil}},
	} {
		t.Run(c.name, func(t *testing.T) {
			f := placed(t, c.csv, c.neighbours)
			for name, above := range c.want {
				d, _ := f.Get(name)
				assert.Equal(t, above, f.Above(d), name)
			}
		})
	}
}

// In any tree that is entered at its root, neighbours tell exactly the way to each device.
func TestNeighboursOfATree(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		n := rapid.IntRange(1, 20).Draw(t, "devices")
		csv, neighbours, parent := "", map[string][]string{"d0": {"station"}}, map[string]string{}
		for i := range n {
			name := fmt.Sprintf("d%d", i)
			csv += fmt.Sprintf("%s,192.0.2.%d,tern,\n", name, i+1)
			if i == 0 {
				continue
			}
			p := fmt.Sprintf("d%d", rapid.IntRange(0, i-1).Draw(t, "hangs on"))
			parent[name] = p
			neighbours[name], neighbours[p] = append(neighbours[name], p), append(neighbours[p], name)
		}
		f := placed(t, csv, neighbours)
		for _, d := range f.Devices {
			assert.Equal(t, parent[d.Name], d.Upstream(), d.Name)
		}
	})
}
