package profile

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestMistakesInHowFilesGetThere(t *testing.T) {
	with := ternWith(t, "files")
	for text, want := range map[string]string{
		"files:\n  way: parcel\n": `"parcel" is no way for files`,
		"files:\n  way: sftp\n  sum: {in: work, send: digest}\n  tells: '^(\\S+) '\n":          "the file <<path>> is missing",
		"files:\n  way: sftp\n  sum: {in: work, send: digest <<path>>}\n":                      "what tells the checksum is missing",
		"files:\n  way: sftp\n  sum: {in: work, send: digest <<path>>}\n  tells: '^\\S+ '\n":   "has not one group",
		"files:\n  way: sftp\n  sum: {in: dock, send: digest <<path>>}\n  tells: '^(\\S+) '\n": `there is no mode "dock"`,
		"files:\n  way: sftp\n  free: room.free\n":                                             `there is no reader "room"`,
		"files:\n  way: sftp\n  free: version.serial\n":                                        "is not how many bytes are free",
	} {
		_, err := Load("tern.yaml", with(text))
		require.ErrorContains(t, err, want, text)
	}
}

// What may be named to a device is a name, and nothing that a shell takes for more.
func TestPathsThatAreNamedToADevice(t *testing.T) {
	for _, good := range []string{"x", "tern-4.3.img", "/flash/x_1.img", "a/b/c", "1+2"} {
		assert.Empty(t, PathSafe(good), good)
	}
	for _, bad := range []string{"", "a b", "a;b", "$(x)", "`x`", "../x", "/a/../b", "-rf", "a\nb", "a'b", "a*", "é"} {
		assert.NotEmpty(t, PathSafe(bad), bad)
	}
	f := Files{Into: "/flash/"}
	assert.Equal(t, "/flash/x.img", f.At("x.img"))
	assert.Equal(t, "/else/x.img", f.At("/else/x.img"))
	assert.Equal(t, "x.img", Files{}.At("x.img"))
}

// A checksum is read where one stands, and made of nothing else.
func FuzzSum(f *testing.F) {
	sum := strings.Repeat("0a", 32)
	f.Add(sum + " x.img")
	f.Add("weight of x.img is " + sum)
	var all []Files
	for _, name := range []string{"tern", "osier"} {
		all = append(all, shipped(f, name).Files)
	}
	f.Fuzz(func(t *testing.T, text string) {
		for _, files := range all {
			got, err := files.ParseSum(strings.Split(text, "\n"))
			if err == nil {
				require.Len(t, got, 64)
				require.Contains(t, strings.ToLower(text), got)
			}
		}
	})
}
