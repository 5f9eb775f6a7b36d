package profile

import (
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"
	"time"

	"metabasis/internal/core/problem"
	"metabasis/internal/core/runbook"
)

// Files is how files get to a device and from it.
type Files struct {
	Way  string `yaml:"way"`  // sftp or scp; or http, https or tftp, over which the device fetches them from us
	Into string `yaml:"into"` // the directory of files that are given by their name alone
	// Fetch has the device fetch a file; in its command, <<url>> stands for where it is offered, or <<host>>,
	// <<port>> and <<file>> for the parts of that, and <<path>> for the file on the device. It takes so long at
	// most.
	Fetch Command       `yaml:"fetch"`
	Takes time.Duration `yaml:"takes"`
	// Rename gives the file <<path>> the name <<to>>, and Remove takes <<path>> away.
	Rename Command `yaml:"rename"`
	Remove Command `yaml:"remove"`
	// List is the table of the files on the device, with the columns path and size, and Clear are patterns of
	// those that may be cleared.
	List  string    `yaml:"list"`
	Clear []Pattern `yaml:"clear"`
	// Sum asks for the SHA-256 of a file; in its command, <<path>> stands for the file.
	Sum   Command `yaml:"sum"`
	Tells Pattern `yaml:"tells"` // its group is the checksum
	Free  string  `yaml:"free"`  // the table and the column that say how many bytes are free
}

// The ways for files.
const (
	SFTP  = "sftp"
	SCP   = "scp"
	HTTP  = "http"
	HTTPS = "https"
	TFTP  = "tftp"
)

// Fetched tells whether devices fetch their files from us.
func (f Files) Fetched() bool { return f.Way == HTTP || f.Way == HTTPS || f.Way == TFTP }

// pathForm is what a path may be made of that stands in a line: nothing that a shell takes for more.
var pathForm = regexp.MustCompile(`^[A-Za-z0-9_./+-]+$`)

// PathSafe says why a path cannot be named to a device; "" where it can.
func PathSafe(path string) string {
	switch {
	case path == "":
		return "it is empty"
	case !pathForm.MatchString(path):
		return fmt.Sprintf("%q has signs that a device may take for more than a name; letters, digits and . _ + - / may stand in it", path)
	case strings.HasPrefix(path, "-"), slices.Contains(strings.Split(path, "/"), ".."):
		return fmt.Sprintf("%q is no name of a file", path)
	}
	return ""
}

// At is the path of a file on the device: one that is given by its name alone goes into the directory of
// the profile.
func (f Files) At(path string) string {
	if strings.Contains(path, "/") || f.Into == "" {
		return path
	}
	return strings.TrimSuffix(f.Into, "/") + "/" + path
}

// ParseSum reads a checksum from what the device printed.
func (f Files) ParseSum(lines []string) (string, error) {
	for _, l := range lines {
		if m := f.Tells.Find(l); m != nil && sumForm.MatchString(m[1]) {
			return strings.ToLower(m[1]), nil
		}
	}
	return "", fmt.Errorf("nothing tells a SHA-256: %s", some(lines))
}

var sumForm = regexp.MustCompile(`^[0-9A-Fa-f]{64}$`)

// FreeAt is the table and the column of Free.
func (f Files) FreeAt() (table, column string) {
	table, column, _ = strings.Cut(f.Free, ".")
	return table, column
}

// files checks how files get to a device.
func (c *checker) files() {
	f := c.p.Files
	if !c.has("files") {
		return
	}
	overSSH := f.Way == SFTP || f.Way == SCP
	if !overSSH && !f.Fetched() {
		c.fail("files.way", problem.OneOf(f.Way, []string{SFTP, SCP, HTTP, HTTPS, TFTP}), "%q is no way for files", f.Way)
	}
	if overSSH && c.p.Connect.Protocol != SSH {
		c.fail("files", "protocol: ssh", "files get to a device over SSH only")
	}
	c.fetches()
	c.command("files.sum", f.Sum, false)
	if f.Sum.Send != "" && !strings.Contains(f.Sum.Send, "<<path>>") {
		c.fail("files.sum", "digest <<path>>", "the file <<path>> is missing")
	}
	if f.Sum.Send != "" && (f.Tells.Regexp == nil || f.Tells.NumSubexp() != 1) {
		c.fail("files.tells", `tells: '^([0-9a-f]{64}) '`, "what tells the checksum is missing, or has not one group")
	}
	if f.Free == "" {
		return
	}
	table, column := f.FreeAt()
	reader, has := c.p.Readers[table]
	switch col, hasCol := reader.Columns[column]; {
	case !has:
		c.fail("files.free", problem.OneOf(table, slices.Sorted(maps.Keys(c.p.Readers))), "there is no reader %q", table)
	case !hasCol || col.Type != runbook.NumberColumn || reader.Row.Regexp != nil:
		c.fail("files.free", "a column of type number, with a unit, in a table of one row", "%s is not how many bytes are free", f.Free)
	}
}

// fetches checks how a device fetches files from us.
func (c *checker) fetches() {
	f := &c.p.Files
	c.command("files.fetch", f.Fetch, f.Fetched())
	c.command("files.rename", f.Rename, false)
	c.command("files.remove", f.Remove, false)
	must := func(key, send string, names ...string) {
		for _, n := range names {
			if send != "" && !strings.Contains(send, n) {
				c.fail("files."+key, send+" "+n, "%s is missing", n)
			}
		}
	}
	must("fetch", f.Fetch.Send, "<<path>>")
	if s := f.Fetch.Send; s != "" && !strings.Contains(s, "<<url>>") && !(strings.Contains(s, "<<host>>") && strings.Contains(s, "<<file>>")) {
		c.fail("files.fetch", "<<url>>, or <<host>> and <<file>>", "nothing in it says from where the file is fetched")
	}
	must("rename", f.Rename.Send, "<<path>>", "<<to>>")
	must("remove", f.Remove.Send, "<<path>>")
	if f.List != "" || len(f.Clear) > 0 {
		c.clears()
	}
	if f.Fetch.Send != "" && !f.Fetched() {
		c.fail("files.fetch", "way: http", "files get to the device over %s: it fetches none", f.Way)
	}
	if f.Takes == 0 {
		f.Takes = time.Hour
	}
}

// clears checks what may be cleared.
func (c *checker) clears() {
	f := &c.p.Files
	r, has := c.p.Readers[f.List]
	switch {
	case len(f.Clear) == 0 || f.List == "":
		c.fail("files", "list: files, and clear: [PATTERN]", "what may be cleared takes both a list of the files and which of them")
	case f.Remove.Send == "":
		c.fail("files.clear", "remove: {in: work, send: remove <<path>>}", "nothing says how a file is removed")
	case !has:
		c.fail("files.list", problem.OneOf(f.List, slices.Sorted(maps.Keys(c.p.Readers))), "there is no reader %q", f.List)
	case r.Row.Regexp == nil || r.Columns["path"].Type != runbook.TextColumn || r.Columns["size"].Type != runbook.NumberColumn:
		c.fail("files.list", "a row for each file, with the columns path and size", "the table %s does not list files", f.List)
	}
	for _, p := range f.Clear {
		if p.Regexp == nil || p.MatchString("/") && p.MatchString("/x/y.z") && p.MatchString("a") {
			c.fail("files.clear", `'\.img$'`, "a pattern that fits any file would clear all of them")
		}
	}
}
