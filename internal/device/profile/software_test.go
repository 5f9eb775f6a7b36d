package profile

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metabasis/internal/core/software"
)

func TestMistakesInHowSoftwareIsExchanged(t *testing.T) {
	with := ternWith(t, "software")
	const install, next = "  install: {in: work, send: take image <<path>>}\n", "  next: {in: work, send: next image <<version>>}\n"
	for text, want := range map[string]string{
		"software:\n" + install: "software.next: the command is missing",
		"software:\n" + next:    "software.install: the command is missing",
		"software:\n  install: {in: work, send: take image}\n" + next:             "<<path>> is missing",
		"software:\n  next: {in: work, send: next image}\n" + install:             "<<version>> is missing",
		"software:\n  next: {in: work, send: next image <<path>>}\n" + install:    "a value in << >> is filled in nowhere here",
		"software:\n  install: {in: dock, send: take image <<path>>}\n" + next:    `there is no mode "dock"`,
		"software:\n" + install + next + "  keep: {in: work, send: keep image}\n": "what runs on trial is kept by a command, within a time",
		"software:\n" + install + next + "  within: 10m\n":                        "what runs on trial is kept by a command, within a time",
		"software:\n" + install + next + "  images: all\n":                        "images",
	} {
		_, err := Load("tern.yaml", with(text))
		require.ErrorContains(t, err, want, text)
	}
	p, err := Load("tern.yaml", with("software:\n"+install+next))
	require.NoError(t, err)
	assert.Equal(t, 10*time.Minute, p.Traits().Software.Takes)
	assert.Zero(t, p.Traits().Software.Falls)
	p, err = Load("tern.yaml", with(""))
	require.NoError(t, err)
	assert.Nil(t, p.Traits().Software)

	with = ternWith(t, "restart")
	_, err = Load("tern.yaml", with("software:\n"+install+next))
	require.ErrorContains(t, err, "nothing says how a device is restarted")
}

// What there is for a platform is known to its profile, and to no other's.
func TestProfilesAreStocked(t *testing.T) {
	set := Set{"tern": tern(t)}
	stocked := set.Stocked(software.Catalogue{"tern": {{Version: "5.0"}}, "osier": {{Version: "1"}}})
	assert.Len(t, stocked.Traits()["tern"].Software.Images, 1)
	assert.Empty(t, set.Traits()["tern"].Software.Images)
	assert.Len(t, stocked, 1)
}
