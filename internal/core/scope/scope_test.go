package scope

import (
	"errors"
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
		"a pattern":          {[]string{"ald-quay-*", "ops-*"}, []string{"ald-quay-1", "ald-quay-2", "ops-desk-1"}, ""},
		"a pattern of none":  {[]string{"ald-quay-*", "eyr-*"}, nil, "no device has a name like eyr-*"},
		"with commas":        {[]string{"ald-quay-1,brm-quay-1", "@two"}, []string{"ald-quay-1", "brm-quay-1", "ops-desk-1"}, ""},
		"a file":             {[]string{"./tonight.txt", "brm-*"}, []string{"ald-quay-2", "brm-quay-1"}, ""},
		"a file of others":   {[]string{"./other.csv"}, nil, "./other.csv names ald-quay-22, which is not in the fleet; did you mean ald-quay-2?"},
		"no file":            {[]string{"./none.txt"}, nil, "no such file"},
		"not kept":           {[]string{"not", "kept", "in", "night", "21"}, []string{"brm-quay-1"}, ""},
		"all kept":           {[]string{"not kept in night 22"}, nil, "night 22 kept all its devices"},
	} {
		s, err := Select(harbour(t), c.words, From{Saved: saved, File: func(path string) ([]string, error) {
			switch path {
			case "./tonight.txt":
				return NamesIn([]byte("# tonight\nname;site\nald-quay-2;ALD # the far one\n\n")), nil
			case "./other.csv":
				return NamesIn([]byte("ald-quay-22\n")), nil
			}
			return nil, errors.New("no such file")
		}, NotKept: func(night string) ([]string, error) {
			if night == "21" {
				return []string{"brm-quay-1"}, nil
			}
			return nil, nil
		}})
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
	s, err := Select(harbour(t), []string{`site == "ALD"`}, From{})
	require.NoError(t, err)
	assert.Equal(t, []Group{{"site is BRM, wanted ALD", []string{"brm-quay-1"}}, {"site is OPS, wanted ALD", []string{"ops-desk-1"}}}, Groups(s.LeftOut))
}

// A part of a scope: names add up, a condition stands alone, and none chosen is all.
func TestAPartOfAScope(t *testing.T) {
	f := harbour(t)
	all, err := Choose(f, nil, From{})
	require.NoError(t, err)
	assert.True(t, all.Has("anything"))
	p, err := Choose(f, []string{"ald-quay-1", "brm-*"}, From{})
	require.NoError(t, err)
	assert.True(t, p.Has("brm-quay-1"))
	assert.False(t, p.Has("ald-quay-2"))
	assert.True(t, p.Named("ald-quay-1"))
	assert.False(t, p.Named("brm-quay-1"), "a pattern names nobody")
	_, err = Choose(f, []string{`site == "ALD"`, "brm-quay-1"}, From{})
	assert.ErrorContains(t, err, "a condition stands alone")
	assert.Equal(t, `(site == "ALD") or name in ["a", "b"]`, Selection{Where: `site == "ALD"`, Devices: []string{"a", "b"}}.Condition())
}
