package profile

import (
	"maps"
	"slices"
	"strings"
	"time"

	"metabasis/internal/core/plan"
	"metabasis/internal/core/runbook"
	"metabasis/internal/core/software"
)

// Software is how the software of a device is exchanged. What is installed is told by the reader "images",
// a table with the columns version, runs and next, and trial where a platform has that: a row for each
// version that is on the device.
type Software struct {
	// Install makes a version of a file that is on the device; in it, <<path>> stands for the file.
	Install Command       `yaml:"install"`
	Takes   time.Duration `yaml:"takes"` // at most
	// Next says what it starts with next; in it, <<version>> stands for that.
	Next Command `yaml:"next"`
	// Keep keeps what runs on trial, where a device goes back by itself to what it ran before, Within that
	// time of its start.
	Keep   Command       `yaml:"keep"`
	Within time.Duration `yaml:"within"`
	// Drop takes the version <<version>> off the device.
	Drop Command `yaml:"drop"`
}

// Images is the reader that tells what is installed.
const Images = "images"

// software is what a plan needs to know of it; nil where the profile does not say.
func (p *Profile) software() *plan.Software {
	s := p.Software
	if s.Install.Send == "" {
		return nil
	}
	return &plan.Software{
		Install: s.Install.Send, Next: s.Next.Send, Keep: s.Keep.Send, Takes: s.Takes, Falls: s.Within,
		Images: p.Stock, Path: p.Files.At, Proves: p.Files.Sum.Send != "",
	}
}

// handsOver checks how the work of a pair is handed over.
func (c *checker) handsOver() {
	h := c.p.Pairs.HandOver
	if h.Send == "" {
		return
	}
	c.command("pairs.hand_over", h, true)
	if col, is := c.p.Readers["pair"].Columns["active"]; !is || col.Type != runbook.YesNoColumn {
		c.fail("pairs.hand_over", "active: {type: yes/no}, in a reader pair:", "nothing tells which of a pair does the work: that it was handed over could not be proven")
	}
}

// exchanges checks how the software of a device is exchanged.
func (c *checker) exchanges() {
	if !c.has("software") {
		return
	}
	s := &c.p.Software
	c.command("software.install", s.Install, true)
	c.command("software.next", s.Next, true)
	c.command("software.keep", s.Keep, false)
	c.command("software.drop", s.Drop, false)
	for _, must := range [][3]string{{"software.install", s.Install.Send, "<<path>>"},
		{"software.next", s.Next.Send, "<<version>>"}, {"software.drop", s.Drop.Send, "<<version>>"}} {
		if must[1] != "" && !strings.Contains(must[1], must[2]) {
			c.fail(must[0], must[1]+" "+must[2], "%s is missing", must[2])
		}
	}
	if (s.Keep.Send == "") != (s.Within == 0) {
		c.fail("software", "keep: and within:, or neither", "what runs on trial is kept by a command, within a time")
	}
	if c.p.Restart.Send == "" {
		c.fail("software", "restart: with send: and up:", "nothing says how a device is restarted, which starts it with other software")
	}
	if c.p.Files.Way == "" {
		c.fail("software", "files: with way: sftp", "nothing says how files get to a device")
	}
	if s.Takes == 0 {
		s.Takes = 10 * time.Minute
	}
	c.images()
}

// images checks the table of what is installed.
func (c *checker) images() {
	r, has := c.p.Readers[Images]
	wants := map[string]runbook.ColumnType{"version": runbook.TextColumn, "runs": runbook.YesNoColumn, "next": runbook.YesNoColumn}
	if c.p.Software.Keep.Send != "" {
		wants["trial"] = runbook.YesNoColumn
	}
	if !has || r.Row.Regexp == nil {
		c.fail("software", "a reader images: with row:", "no reader %q tells what is installed, a row for each version", Images)
		return
	}
	for _, name := range []string{"version", "runs", "next", "trial"} {
		kind, wanted := wants[name]
		col, is := r.Columns[name]
		if wanted && (!is || col.Type != kind) {
			c.fail("readers."+Images, name+": {type: "+string(kind)+"}", "the table %s has no column %q of type %s", Images, name, kind)
		}
	}
	if !slices.Contains(keysOf(r), "version") {
		c.fail("readers."+Images, "version: {type: text, key: true}", "nothing tells the rows of %s apart", Images)
	}
}

// keysOf are the columns that tell the rows of a table apart.
func keysOf(r Reader) (out []string) {
	for name, col := range r.Columns {
		if col.Key {
			out = append(out, name)
		}
	}
	return out
}

// Stocked is the profiles with what software there is for their platforms.
func (s Set) Stocked(c software.Catalogue) Set {
	out := maps.Clone(s)
	for platform, images := range c {
		if p := out[platform]; p != nil {
			stocked := *p
			stocked.Stock = images
			out[platform] = &stocked
		}
	}
	return out
}
