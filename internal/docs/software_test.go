package docs

import (
	"os"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metabasis/internal/core/fleet"
	"metabasis/internal/core/plan"
	"metabasis/internal/core/runbook"
	"metabasis/internal/core/software"
	"metabasis/internal/device/profile"
	"metabasis/internal/sim"
	"metabasis/profiles"
)

// The catalogue shown is read, leads where the text says, and its runbook compiles.
func TestSoftwareExamples(t *testing.T) {
	set, err := profiles.Shipped()
	require.NoError(t, err)
	c, err := software.Read("images.yaml", []byte(blocks(t, "docs/software.md", "yaml-images")[0]), set.Platforms())
	require.NoError(t, err)
	way, err := software.Way(c["tern"], "tern-24", "4.7.2", "5.0")
	require.NoError(t, err)
	assert.Len(t, way, 2)
	f, err := fleet.Read("fleet.csv", []byte("name,address,platform,site,role\nald-quay-1,192.0.2.1,tern,ALD,quay\n"), set.Platforms())
	require.NoError(t, err)
	for _, src := range blocks(t, "docs/software.md", "runbook") {
		rb, err := runbook.Parse("new.runbook", []byte(src))
		require.NoError(t, err)
		require.NoError(t, rb.Compile(set.Schema(f)))
		assert.True(t, rb.Exchanges())
		out, err := runbook.Format("new.runbook", []byte(src))
		require.NoError(t, err)
		assert.Equal(t, strings.TrimSpace(src), strings.TrimSpace(string(out)))
	}
}

// What a profile may say of devices that fetch their files is as it is shown.
func TestFetchingShown(t *testing.T) {
	tern, err := os.ReadFile(root + "profiles/tern.yaml")
	require.NoError(t, err)
	for _, b := range blocks(t, "docs/profiles.md", "yaml-files") {
		head, rest, _ := strings.Cut(string(tern), "\nfiles:\n")
		_, rest, _ = strings.Cut(rest, "\n\n")
		p, err := profile.Load("tern.yaml", []byte(head+"\n"+b+"\n"+rest))
		require.NoError(t, err)
		assert.True(t, p.Files.Fetched())
	}
}

// The pairs of the demo can be played, and their runbook is for them.
func TestThePairsOfTheDemo(t *testing.T) {
	data, err := os.ReadFile(root + "demo/software.yaml")
	require.NoError(t, err)
	s, err := sim.ReadScenario("software.yaml", data)
	require.NoError(t, err)
	require.Len(t, s.Devices, 24)
	dir := t.TempDir()
	require.NoError(t, s.WriteStock(dir))
	set, err := profiles.Shipped()
	require.NoError(t, err)
	images, err := os.ReadFile(dir + "/images.yaml")
	require.NoError(t, err)
	c, err := software.Read("images.yaml", images, set.Platforms())
	require.NoError(t, err)
	csv := "name,address,platform,site,pair\n"
	for _, d := range s.Devices {
		csv += d.Name + "," + d.Address + "," + d.Platform + "," + d.Site + "," + d.Pair + "\n"
	}
	f, err := fleet.Read("fleet.csv", []byte(csv), set.Platforms())
	require.NoError(t, err)
	src, err := os.ReadFile(root + "demo/software.runbook")
	require.NoError(t, err)
	rb, err := runbook.Parse("software.runbook", src)
	require.NoError(t, err)
	require.NoError(t, rb.Compile(set.Schema(f)))
	p, err := plan.Make(rb, f, nil, set.Stocked(c).Traits(), time.Now())
	require.NoError(t, err)
	assert.Len(t, p.Targets(), 24)
	for _, t2 := range p.Targets() {
		assert.NotEmpty(t, t2.Partner, t2.Device.Name)
	}
}
