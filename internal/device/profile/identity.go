package profile

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"metabasis/internal/core/driver"
	"metabasis/internal/core/identity"
	"metabasis/internal/core/problem"
)

// Identity is by what a device of the platform tells who it is, beside its prompt and the key
// that it shows.
type Identity struct {
	Name   string  `yaml:"name"`   // TABLE.COLUMN, where no prompt tells its name, or another one
	Serial string  `yaml:"serial"` // TABLE.COLUMN; not given: version.serial, where there is one
	Line   Pattern `yaml:"line"`   // the line of its configuration that gives it its name, the last group
}

// tellsName tells whether a device says what it is called.
func (p *Profile) tellsName() bool {
	if p.Typed() {
		return p.Identity.Name != "" || !p.Bare
	}
	return p.Models.Name+p.Snmp.Name+p.Identity.Name != ""
}

// showsKey tells whether a device shows a key that it is known by.
func (p *Profile) showsKey() bool {
	return p.Connect.Protocol != Telnet && (p.Connect.Protocol != SNMP || p.Snmp.Version != "2c")
}

// identity checks by what a device tells who it is.
func (c *checker) identity() {
	p := c.p
	if r, ok := p.Readers["version"]; ok && p.Identity.Serial == "" && !r.many() {
		if _, ok := r.Columns["serial"]; ok {
			p.Identity.Serial = "version.serial"
		}
	}
	for _, at := range []struct{ key, place string }{{"identity.name", p.Identity.Name}, {"identity.serial", p.Identity.Serial}} {
		if at.place == "" {
			continue
		}
		table, column, ok := strings.Cut(at.place, ".")
		r, known := p.Readers[table]
		_, has := r.Columns[column]
		switch {
		case !ok:
			c.fail(at.key, "version.serial", "%q is not TABLE.COLUMN", at.place)
		case !known:
			c.fail(at.key, problem.OneOf(table, slices.Sorted(maps.Keys(p.Readers))), "there is no reader %q", table)
		case r.many():
			c.fail(at.key, "a table of one row", "readers.%s has many rows: none of them is the device", table)
		case !has:
			c.fail(at.key, problem.OneOf(column, slices.Sorted(maps.Keys(r.Columns))), "readers.%s has no column %q", table, column)
		}
	}
	if re := p.Identity.Line.Regexp; re != nil && re.NumSubexp() == 0 {
		c.fail("identity.line", `'^name (\S+)$'`, "the pattern has no group that is the name")
	}
}

// many tells whether the reader makes a table of many rows.
func (r Reader) many() bool { return r.Row.Regexp != nil || r.Each != "" }

// Who asks a device who it is. Host is what its prompt or its protocol calls it, key the key
// that it showed; read reads a table. What it refuses to tell is not told.
func (p *Profile) Who(
	ctx context.Context,
	host string,
	key func() string,
	read func(context.Context, string) (any, error),
) (identity.Seen, error) {
	seen := identity.Seen{Name: host}
	if key != nil {
		seen.Key = key()
	}
	rows := map[string]map[string]any{}
	for _, at := range []struct {
		place string
		into  *string
	}{{p.Identity.Name, &seen.Name}, {p.Identity.Serial, &seen.Serial}} {
		table, column, ok := strings.Cut(at.place, ".")
		if !ok {
			continue
		}
		if _, was := rows[table]; !was {
			v, err := read(ctx, table)
			var refused *driver.Refused
			var unclear *driver.Unclear
			if err != nil && !errors.As(err, &refused) && !errors.As(err, &unclear) {
				return seen, err
			}
			rows[table], _ = v.(map[string]any)
		}
		if v := rows[table][column]; v != nil {
			if text := told(v); text != "" {
				*at.into = text
			}
		}
	}
	return seen, nil
}

// told is what a device says of itself as it may be shown and compared: bounded, on one line.
func told(v any) string {
	text := strings.Join(strings.Fields(problem.Printable(fmt.Sprint(v))), " ")
	if r := []rune(text); len(r) > 64 {
		text = string(r[:64])
	}
	return text
}

// claimIdentity says by what it is known that a device is the one that is meant.
func (p *Profile) claimIdentity(by []string) Claim {
	c := Claim{What: "it is the device that is meant", Is: Yes}
	if p.Identity.Serial != "" {
		by = append(by, p.Identity.Serial+" tells its serial number")
	}
	named := len(by) > 0
	if p.showsKey() {
		by = append(by, "it shows its key")
	}
	switch {
	case len(by) == 0:
		c.How, c.Is = "nothing tells who it is: no name, no serial number, no key (identity: names a table that tells)", Not
		return c
	case !named:
		c.Is = Partly // a key alone says nothing the first time
		c.How = "it shows its key, which says nothing the first time (identity: names a table that tells its name or serial number)"
		return c
	}
	c.How = strings.Join(by, ", ") + "; held against the fleet and what was last seen, each time it is connected to"
	return c
}
