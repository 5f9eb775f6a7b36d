// Package fleet holds the devices we know and reads them from files.
//
// Three kinds of file are read, told apart by their ending: fleet.csv (a
// header line, then a line a device, RFC 4180), fleet.yaml (a list under
// "devices" with the same names), and a plain .txt list of addresses under a
// line "platform NAME". Every error of a file is reported at once, each with
// its line.
//
// A device's login is the *name* of a credential. The secret itself never
// stands in a fleet file.
package fleet

import (
	"cmp"
	"fmt"
	"maps"
	"net/netip"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"metabasis/internal/core/identity"
	"metabasis/internal/core/kind"
	"metabasis/internal/core/problem"
)

// Device is one device of the fleet.
type Device struct {
	Name     string
	Address  string // IP address or host name
	Port     int    // TCP port; 0 means the platform's usual one
	Platform string // name of the profile that teaches how to talk to it
	Site     string
	Role     string
	// Calls is what it calls itself, where that is not its name here.
	Calls string
	// Serial is its serial number; "" where the fleet does not say.
	Serial  string
	Pair    string // name of its redundant pair, "" when it stands alone
	Standby bool   // it is the standby member of its pair
	Via     string // the device it is reached through, "" when directly
	Behind  string // the device it is reached through by what neighbours told, where Via is ""
	// BehindFrom says from where that is known.
	BehindFrom string
	Login      string   // name of the credential it is logged in to with; "" is by the settings' rules
	Jump       []string // jump hosts on the way to it, nearest first, as [user@]host[:port]
	Protocol   string   // ssh or telnet; "" means the platform's usual one
	Old        bool     // weak SSH algorithms are allowed for it
	Shared     bool     // its login may be used in clear text although it is used over SSH, too
	Values     map[string]string
	Sources    map[string]string // where those of them come from that its own line does not say
	Line       int               // where the file speaks of it
}

// Meant is who the fleet means by the device. One that is known by its address alone may
// call itself anything.
func (d Device) Meant() identity.Meant {
	m := identity.Meant{Device: d.Name, Name: cmp.Or(d.Calls, d.Name), Serial: d.Serial}
	if d.Calls == "" && d.Name == nameOf(d.Address) {
		m.Name = ""
	}
	return m
}

// nameOf is the name of a device of which no more than its address is known.
func nameOf(address string) string { return strings.Trim(strings.ReplaceAll(address, ":", "-"), "-") }

// AnyPlatform among the platforms at hand lets a fleet name others, too.
const AnyPlatform = "*"

// Fleet is a checked set of devices in file order.
type Fleet struct {
	File    string
	Devices []Device
	Retired []Retired
	Columns []string             // names of the further columns, in file order
	Kinds   map[string]kind.Kind // theirs, as they are said, else as their values show
	Tables  []*Rows              // beside it, several rows a device
	Notes   []string             // what is to be known of its files, and is no mistake
	said    map[string]kind.Kind // those of them that are said
	shared  []*Shared
	at      map[string]int // where the devices are, once they were read
}

// Fields are the columns of a device under the names runbooks know, and its rows of the tables
// beside the fleet. A text that a device leaves empty is empty text, so that conditions can be
// asked; a number is nil.
func (f *Fleet) Fields(d Device) map[string]any {
	out := map[string]any{
		"name": d.Name, "address": d.Address, "platform": d.Platform, "site": d.Site,
		"role": d.Role, "pair": d.Pair, "via": d.Via, "serial": d.Serial,
	}
	for _, c := range f.Columns {
		out[c] = f.Kinds[c].Value(d.Values[c])
	}
	for _, t := range f.Tables {
		out[t.Name] = t.Of(d)
	}
	return out
}

// Further are the further columns with their kinds.
func (f *Fleet) Further() (out []kind.Column) {
	for _, c := range f.Columns {
		out = append(out, kind.Column{Name: c, Kind: f.Kinds[c]})
	}
	return out
}

// SaysKind tells whether somebody has said what a column holds.
func (f *Fleet) SaysKind(column string) bool {
	_, said := f.said[column]
	return said
}

// Beside are the columns of the tables beside the fleet, by table.
func (f *Fleet) Beside() map[string][]kind.Column {
	out := map[string][]kind.Column{}
	for _, t := range f.Tables {
		out[t.Name] = t.Columns
	}
	return out
}

// count finds the kinds of the columns of which nobody says it.
func (f *Fleet) count() {
	if f.Kinds == nil {
		f.Kinds = map[string]kind.Kind{}
	}
	for _, c := range f.Columns {
		if k, said := f.said[c]; said {
			f.Kinds[c] = k
			continue
		}
		values := make([]string, 0, len(f.Devices))
		for _, d := range f.Devices {
			values = append(values, d.Values[c])
		}
		f.Kinds[c] = kind.Guess(values)
	}
}

// Get returns the device of that name.
func (f *Fleet) Get(name string) (Device, bool) {
	i, ok := f.at[name]
	if !ok && f.at == nil { // it was put together, not read
		i = slices.IndexFunc(f.Devices, func(d Device) bool { return d.Name == name })
		ok = i >= 0
	}
	if !ok {
		return Device{}, false
	}
	return f.Devices[i], true
}

// Near asks whether the nearest name to one that is not in the fleet was meant: "; did you mean
// ald-quay-1?". It is "" where none is near.
func (f *Fleet) Near(name string) string {
	names := make([]string, len(f.Devices))
	for i, d := range f.Devices {
		names[i] = d.Name
	}
	if near := problem.Nearest(name, names); near != "" {
		return "; did you mean " + near + "?"
	}
	return ""
}

// Above lists the devices that d is reached through, the nearest to it first.
func (f *Fleet) Above(d Device) (out []string) {
	for d.Upstream() != "" && len(out) <= len(f.Devices) {
		next, ok := f.Get(d.Upstream())
		if !ok {
			break
		}
		out = append(out, next.Name)
		d = next
	}
	return out
}

// Known are the columns with a meaning of their own. Any further column is a
// value that a runbook can use by its name.
var known = []string{
	"name",
	"address",
	"port",
	"platform",
	"site",
	"role",
	"pair",
	"via",
	"login",
	"jump",
	"protocol",
	"algorithms",
	"clear_login",
	CallsColumn,
	SerialColumn,
	RetiredColumn,
}

// The columns that say who a device is, where its name does not.
const (
	CallsColumn  = "calls itself"
	SerialColumn = "serial"
)

var (
	validName   = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9._-]{0,62}$`)
	validColumn = regexp.MustCompile(`^[a-z][a-z0-9_]{0,39}$`)
	validJump   = regexp.MustCompile(`^([A-Za-z0-9._-]{1,63}@)?[A-Za-z0-9][A-Za-z0-9.-]{0,252}(:[0-9]{1,5})?$`)
	validHost   = regexp.MustCompile(`^[A-Za-z0-9]([A-Za-z0-9.-]{0,250}[A-Za-z0-9])?$`)
)

// row is one device as a file gives it, before it is checked.
type row struct {
	line  int
	text  string
	cells map[string]cell
}

type cell struct {
	value string
	line  int
	col   int
}

// reader gathers rows and problems of one file.
type reader struct {
	file      string
	platforms []string
	declared  Kinds                // what the file of kinds says of all files
	said      map[string]kind.Kind // what is said of the columns of this one
	problems  problem.List
}

func (r *reader) fail(line, col int, text, hint, format string, args ...any) {
	r.problems = append(r.problems, problem.Problem{
		File: r.file, Line: line, Col: col, Text: text, Hint: hint, Msg: fmt.Sprintf(format, args...),
	})
}

// build turns rows into a fleet and checks all of them against each other.
func (r *reader) build(rows []row, columns []string) (*Fleet, error) {
	f := &Fleet{File: r.file, Columns: columns, said: r.said}
	r.fits(rows, r.said)
	var active []row
	for _, one := range rows {
		if why := one.cells[RetiredColumn].value; why != "" {
			f.Retired = append(f.Retired, Retired{one.cells["name"].value, why, one.line})
			continue
		}
		active = append(active, one)
		f.Devices = append(f.Devices, r.device(one))
	}
	rows = active
	r.checkUnique(f, rows)
	r.checkPairs(f, rows)
	r.checkVia(f, rows)
	if len(rows) == 0 && len(r.problems) == 0 {
		r.fail(0, 0, "", "", "no devices in this file")
	}
	if err := r.problems.Err(); err != nil {
		return nil, err
	}
	f.count()
	f.at = map[string]int{}
	for i, d := range f.Devices {
		f.at[d.Name] = i
	}
	return f, nil
}

func (r *reader) device(row row) Device {
	get := func(name string) string { return row.cells[name].value }
	at := func(name string) (int, int) {
		if c, ok := row.cells[name]; ok {
			return c.line, c.col
		}
		return row.line, 0
	}
	d := Device{
		Name:     get("name"),
		Address:  get("address"),
		Platform: get("platform"),
		Site:     get("site"),
		Role:     get("role"),
		Via:      get("via"),
		Login:    get("login"),
		Calls:    get(CallsColumn),
		Serial:   get(SerialColumn),
		Values:   map[string]string{},
		Line:     row.line,
	}
	bad := func(column, hint, format string, args ...any) {
		line, col := at(column)
		r.fail(line, col, row.text, hint, format, args...)
	}
	for _, name := range slices.Sorted(maps.Keys(row.cells)) {
		if problem.Printable(get(name)) != get(name) || strings.ContainsAny(get(name), "\n\t") {
			bad(name, "", "the value of %s has a control character", name)
		}
	}
	switch {
	case d.Name == "":
		bad("name", "", "this device has no name")
	case !validName.MatchString(d.Name):
		bad("name", "letters, digits, dots and hyphens, at most 63", "name %q cannot be a host name", d.Name)
	}
	switch addr, err := netip.ParseAddr(d.Address); {
	case d.Address == "":
		bad("address", "", "device %s has no address", d.Name)
	case err == nil:
		d.Address = addr.String()
	case looksNumeric(d.Address) || !validHost.MatchString(d.Address):
		bad("address", "an IPv4 or IPv6 address or a host name", "address %q of %s cannot be read", d.Address, d.Name)
	}
	if p := get("port"); p != "" {
		n, err := strconv.Atoi(p)
		if err != nil || n < 1 || n > 65535 {
			bad("port", "a number from 1 to 65535", "port %q of %s cannot be used", p, d.Name)
		}
		d.Port = n
	}
	switch {
	case d.Platform == "":
		bad("platform", problem.OneOf("", r.platforms), "device %s has no platform", d.Name)
	case !slices.Contains(r.platforms, d.Platform) && !slices.Contains(r.platforms, AnyPlatform):
		bad(
			"platform",
			problem.OneOf(d.Platform, r.platforms)+"; or teach it: metabasis profile new "+d.Name,
			"no profile for platform %q of %s",
			d.Platform,
			d.Name,
		)
	}
	switch words := strings.Fields(get("pair")); {
	case len(words) == 1:
		d.Pair = words[0]
	case len(words) == 2 && words[1] == "standby":
		d.Pair, d.Standby = words[0], true
	case len(words) > 0:
		bad("pair", words[0]+" or "+words[0]+" standby", "pair %q of %s cannot be read", get("pair"), d.Name)
	}
	r.ways(&d, get, bad)
	for name, c := range row.cells {
		if !slices.Contains(known, name) {
			d.Values[name] = c.value
		}
	}
	return d
}

// ways reads the columns that say how a device is talked to.
func (r *reader) ways(d *Device, get func(string) string, bad func(column, hint, format string, args ...any)) {
	for _, hop := range strings.Fields(get("jump")) {
		if !validJump.MatchString(hop) {
			bad("jump", "crew@bastion.example:22, and more behind a space", "jump host %q of %s cannot be read", hop, d.Name)
		}
		d.Jump = append(d.Jump, hop)
	}
	word := func(column string, allowed ...string) string {
		v := get(column)
		if v != "" && !slices.Contains(allowed, v) {
			bad(column, problem.OneOf(v, allowed), "%s %q of %s is not known", column, v, d.Name)
		}
		return v
	}
	d.Protocol = word("protocol", "ssh", "telnet")
	d.Old = word("algorithms", "old") == "old"
	d.Shared = word("clear_login", "shared") == "shared"
}

// looksNumeric tells a mistyped IPv4 address from a host name.
func looksNumeric(s string) bool { return strings.Trim(s, "0123456789.") == "" }

func (r *reader) checkUnique(f *Fleet, rows []row) {
	names, addresses := map[string]int{}, map[string]int{}
	for i, d := range f.Devices {
		if first, ok := names[d.Name]; ok && d.Name != "" {
			r.fail(d.Line, rows[i].cells["name"].col, rows[i].text, "", "name %s stands already on line %d", d.Name, first)
		} else {
			names[d.Name] = d.Line
		}
		// Several devices may sit behind one address, each on a port of its own.
		key := d.Address + " port " + strconv.Itoa(d.Port)
		if first, ok := addresses[key]; ok && d.Address != "" {
			r.fail(d.Line, rows[i].cells["address"].col, rows[i].text, "", "address %s stands already on line %d", d.Address, first)
		} else {
			addresses[key] = d.Line
		}
	}
}

func (r *reader) checkPairs(f *Fleet, rows []row) {
	members := map[string][]int{}
	var order []string
	for i, d := range f.Devices {
		if d.Pair != "" {
			if members[d.Pair] == nil {
				order = append(order, d.Pair)
			}
			members[d.Pair] = append(members[d.Pair], i)
		}
	}
	for _, pair := range order {
		m := members[pair]
		last := m[len(m)-1]
		at := func(format string, args ...any) {
			r.fail(f.Devices[last].Line, rows[last].cells["pair"].col, rows[last].text, "", format, args...)
		}
		standbys := 0
		for _, i := range m {
			if f.Devices[i].Standby {
				standbys++
			}
		}
		switch {
		case len(m) == 1:
			at("pair %s has only one member, %s", pair, f.Devices[m[0]].Name)
		case len(m) > 2:
			at("pair %s has %d members; a pair is two", pair, len(m))
		case standbys == 2:
			at("both members of pair %s are marked standby", pair)
		}
	}
}

func (r *reader) checkVia(f *Fleet, rows []row) {
	index := map[string]int{}
	names := make([]string, 0, len(f.Devices))
	for i, d := range f.Devices {
		index[d.Name] = i
		names = append(names, d.Name)
	}
	for i, d := range f.Devices {
		c := rows[i].cells["via"]
		if d.Via == "" {
			continue
		}
		if _, ok := index[d.Via]; !ok {
			r.fail(d.Line, c.col, rows[i].text, problem.Nearest(d.Via, names), "%s is reached via %q, which is not in the fleet", d.Name, d.Via)
			continue
		}
		path := []string{d.Name}
		for at := d.Via; at != ""; {
			path = append(path, at)
			if at == d.Name {
				r.fail(d.Line, c.col, rows[i].text, "", "via goes round in a circle: %s", strings.Join(path, " via "))
				break
			}
			j, ok := index[at]
			if !ok || len(path) > len(f.Devices)+1 {
				break
			}
			at = f.Devices[j].Via
		}
	}
}
