package scope

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metabasis/internal/core/fleet"
)

func harbour(t *testing.T) *fleet.Fleet {
	f, err := fleet.Read("fleet.csv", []byte(`name,address,platform,site,role,floor
ald-quay-1,192.0.2.1,tern,ALD,quay,1
ald-quay-2,192.0.2.2,tern,ALD,quay,2
brm-quay-1,192.0.2.3,tern,BRM,quay,1
ops-desk-1,192.0.2.4,tern,OPS,desk,
`), []string{"tern"})
	require.NoError(t, err)
	return f
}

func TestSelect(t *testing.T) {
	saved := map[string]Selection{"brim": {Where: `site == "BRM"`}, "two": {Devices: []string{"ald-quay-1", "ops-desk-1"}}, "gone": {Devices: []string{"ald-quay-9"}}}
	for name, c := range map[string]struct {
		words []string
		want  []string
		err   string
	}{
		"all":                {nil, []string{"ald-quay-1", "ald-quay-2", "brm-quay-1", "ops-desk-1"}, ""},
		"condition":          {[]string{`role == "quay" and site in ["ALD"]`}, []string{"ald-quay-1", "ald-quay-2"}, ""},
		"condition in words": {[]string{"floor", "==", `1`}, []string{"ald-quay-1", "brm-quay-1"}, ""},
		"a number as text":   {[]string{`floor == "1"`}, nil, "whole numbers; write: floor == 1"},
		"names":              {[]string{"brm-quay-1", "ald-quay-2"}, []string{"ald-quay-2", "brm-quay-1"}, ""},
		"saved":              {[]string{"@brim"}, []string{"brm-quay-1"}, ""},
		"saved and name":     {[]string{"@two", "brm-quay-1"}, []string{"ald-quay-1", "brm-quay-1", "ops-desk-1"}, ""},
		"nothing":            {[]string{`site == "EYR"`}, nil, `selects no device: 2 because site is ALD, wanted EYR`},
		"mistyped name":      {[]string{"ald-quay-11"}, nil, "did you mean ald-quay-1?"},
		"one mistyped":       {[]string{"ald-quay-1", "brm-quay-2"}, nil, "did you mean brm-quay-1?"},
		"names of nothing":   {[]string{"x", "y", "z"}, nil, `there is no device "x"`},
		"true is all":        {[]string{"true"}, []string{"ald-quay-1", "ald-quay-2", "brm-quay-1", "ops-desk-1"}, ""},
		"mistyped column":    {[]string{`sight == "ALD"`}, nil, "site"},
		"no condition":       {[]string{"site"}, nil, "neither true nor false"},
		"no selection":       {[]string{"@brimm"}, nil, "brim"},
		"device has gone":    {[]string{"@gone"}, nil, "not in the fleet"},
		"of the device":      {[]string{`clock.settled`}, nil, "clock"},
	} {
		s, err := Select(harbour(t), c.words, saved)
		if c.err != "" {
			assert.ErrorContains(t, err, c.err, name)
			continue
		}
		require.NoError(t, err, name)
		var got []string
		for _, d := range s.Devices {
			got = append(got, d.Name)
		}
		assert.Equal(t, c.want, got, name)
		assert.Len(t, s.LeftOut, 4-len(c.want), name)
	}
	s, err := Select(harbour(t), []string{`site == "ALD"`}, nil)
	require.NoError(t, err)
	assert.Equal(t, []Group{{"site is BRM, wanted ALD", []string{"brm-quay-1"}}, {"site is OPS, wanted ALD", []string{"ops-desk-1"}}}, Groups(s.LeftOut))
}
