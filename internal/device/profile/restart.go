package profile

import (
	"maps"
	"slices"
	"strings"
	"time"

	"metabasis/internal/core/plan"
	"metabasis/internal/core/problem"
	"metabasis/internal/core/runbook"
)

// Restart is how a device is restarted at once, and how it is told that it was.
type Restart struct {
	Command `yaml:",inline"`
	// Up is the table and the column that say for how many seconds the device has been up, such as
	// uptime.seconds: what is away and there again has not always been restarted.
	Up    string        `yaml:"up"`
	Usual time.Duration `yaml:"usual"` // from that word to the first prompt
}

// UpAt is the table and the column of Up.
func (r Restart) UpAt() (table, column string) {
	table, column, _ = strings.Cut(r.Up, ".")
	return table, column
}

// restarts is what a plan needs to know of it; nil where the profile does not say.
func (p *Profile) restarts() *plan.Restarts {
	if p.Restart.Send == "" {
		return nil
	}
	return &plan.Restarts{Usual: p.Restart.Usual, Sends: p.Restart.Send}
}

// restart checks how a device is restarted.
func (c *checker) restart() {
	r := &c.p.Restart
	if !c.has("restart") {
		return
	}
	c.command("restart", r.Command, true)
	table, column := r.UpAt()
	reader, has := c.p.Readers[table]
	col, hasCol := reader.Columns[column]
	switch {
	case r.Up == "":
		c.fail("restart", "up: uptime.seconds, and a reader of that table", "nothing tells for how long a device has been up: whether it was restarted could not be proven")
	case !has:
		c.fail("restart.up", problem.OneOf(table, slices.Sorted(maps.Keys(c.p.Readers))), "there is no reader %q", table)
	case !hasCol:
		columns := strings.Join(slices.Sorted(slices.Values(reader.order)), ", "+table+".")
		c.fail("restart.up", table+"."+columns, "the table %s has no column %q", table, column)
	case col.Type != runbook.NumberColumn || reader.Row.Regexp != nil:
		const hint = "a column of type number, in seconds, in a table of one row"
		c.fail("restart.up", hint, "%s is not for how many seconds a device has been up", r.Up)
	}
	if r.Usual == 0 {
		r.Usual = max(c.p.Timer.Boot, time.Minute)
	}
}
