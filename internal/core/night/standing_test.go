package night

import (
	"fmt"
	"os"
	"reflect"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What a night has is written down under a version: with other fields it is another one.
func TestAStandingIsOfOneVersion(t *testing.T) {
	got := []string{fmt.Sprint("version ", standingVersion)}
	seen := map[reflect.Type]bool{reflect.TypeFor[Outline](): true, reflect.TypeFor[OutlineDevice](): true} // those are not written
	var fields func(reflect.Type)
	fields = func(of reflect.Type) {
		switch of.Kind() {
		case reflect.Pointer, reflect.Slice, reflect.Map:
			fields(of.Elem())
		case reflect.Struct:
			if seen[of] || !strings.HasPrefix(of.PkgPath(), "metabasis/") {
				return
			}
			seen[of] = true
			for f := range of.NumField() {
				got = append(got, fmt.Sprintf("%s.%s %s", of, of.Field(f).Name, of.Field(f).Type))
			}
			for f := range of.NumField() {
				fields(of.Field(f).Type)
			}
		}
	}
	fields(reflect.TypeFor[standing]())
	text := strings.Join(got, "\n") + "\n"
	want, err := os.ReadFile("testdata/standing.txt")
	require.NoError(t, err)
	assert.Equal(t, string(want), text, "count standingVersion up, and write the list in testdata/standing.txt anew")
}

// How a night stood is not trusted where another version wrote it.
func TestAStandingOfAnotherVersionIsNotRead(t *testing.T) {
	planned := Event{Kind: Planned, Outline: outline(2)}
	n := Fold(Night{}, planned, Event{Seq: 2, Kind: Began, By: "ada"})
	data, err := Standing(&n)
	require.NoError(t, err)
	_, err = FromStanding(planned, data)
	require.NoError(t, err)
	own := fmt.Sprintf(`{"Version":%d,`, standingVersion)
	require.Contains(t, string(data), own)
	for _, version := range []string{`{"Version":0,`, fmt.Sprintf(`{"Version":%d,`, standingVersion+1), `{`} {
		_, err = FromStanding(planned, []byte(strings.Replace(string(data), own, version, 1)))
		require.ErrorContains(t, err, "another version", version)
	}
}
