// Package record compares what devices were with what they are: named sets of tables and
// configurations, read from many devices at two times, or from two devices.
//
// A [Record] holds what was read. [Compare] finds the differences of one device with
// another or with itself at another time, as a [Manner] says how a table is compared: by
// which columns rows are told apart, which columns change by themselves, how far a number
// may be off. [Fold] puts together what many devices have in common, and the outliers
// first.
package record

import (
	"cmp"
	"fmt"
	"maps"
	"math"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/maruel/natural"

	"metabasis/internal/core/identity"
)

// Record is what was read from some devices at a time.
type Record struct {
	Name string    `json:"name"`
	At   time.Time `json:"at"`
	By   string    `json:"by,omitempty"`
	// Of says on whose behalf it was taken, such as "night 21, before".
	Of      string   `json:"of,omitempty"`
	Devices []Device `json:"-"`
}

// Device is what was read from one device.
type Device struct {
	Device   string    `json:"device"`
	Platform string    `json:"platform,omitempty"`
	Site     string    `json:"site,omitempty"`
	At       time.Time `json:"at"`
	// Tables are its rows by the name of their table. One that could not be read is in
	// Wrong in place of that, with why.
	Tables map[string][]Row  `json:"tables,omitempty"`
	Wrong  map[string]string `json:"wrong,omitempty"`
	// Who is who it said it was; empty where that is not known.
	Who identity.Seen `json:"who,omitzero"`
	// Failed says why nothing could be read.
	Failed string `json:"failed,omitempty"`
	// Backup is the file on the shelf with its configuration, and SHA256 that file's
	// checksum; "" where the configuration is not in the record.
	Backup string `json:"backup,omitempty"`
	SHA256 string `json:"sha256,omitempty"`
	// Text is the configuration itself, where it was read to be compared and is not kept.
	Text string `json:"-"`
	// Masked says that its secrets are masked, so that they cannot be compared.
	Masked bool `json:"-"`
}

// HasConfig tells whether the configuration is in the record.
func (d Device) HasConfig() bool { return d.Backup != "" || d.Text != "" }

// Row is a row of a table, by column: a string, a float64, a bool, or nil.
type Row = map[string]any

// Rows are the rows of what a session reads: one row, or many.
func Rows(v any) []Row {
	switch x := v.(type) {
	case Row:
		return []Row{x}
	case []Row:
		return x
	}
	return nil
}

// Manner is how a table of a platform is compared.
type Manner struct {
	Keys     []string // columns that tell rows apart; none: whole rows are compared
	Volatile []string // columns that are not compared
	Within   map[string]Tolerance
}

// Tolerance is how far a number may be off and counts as the same.
type Tolerance struct {
	By    float64 // so much
	Share float64 // or such a share of what it was, such as 0.1
	// Counter says that it only ever grows: one that is less than it was has begun anew.
	Counter bool
}

// ParseTolerance reads "5" or "10%".
func ParseTolerance(text string) (t Tolerance, err error) {
	number, percent := strings.CutSuffix(strings.TrimSpace(text), "%")
	v, err := strconv.ParseFloat(strings.TrimSpace(number), 64)
	if err != nil || v < 0 || math.IsInf(v, 0) || math.IsNaN(v) {
		return t, fmt.Errorf("%q is no tolerance; write a number such as 5, or a share such as 10%%", text)
	}
	if percent {
		return Tolerance{Share: v / 100}, nil
	}
	return Tolerance{By: v}, nil
}

// same tells whether two numbers count as the same.
func (t Tolerance) same(was, is float64) bool {
	if t.Counter && is < was {
		return false
	}
	return math.Abs(is-was) <= max(t.By, t.Share*math.Abs(was))
}

// Change is one difference of a device.
type Change struct {
	Table string `json:"table"`
	// Row is the row that differs, by its keys, such as "port 3"; "" for a table of one row.
	Row string `json:"row,omitempty"`
	// What is what is different, in a few words: "is gone (name brm-gate-2)".
	What string `json:"what"`
	Kind Kind   `json:"kind"`
	// Expected says that the runbook expected it, and that it became so; see [Expect].
	Expected bool     `json:"expected,omitempty"`
	columns  []string // that differ, of a row that both have
}

// Kind is what happened.
type Kind string

// The kinds of difference.
const (
	Gone    Kind = "gone"
	New     Kind = "new"
	Other   Kind = "changed"
	Unknown Kind = "not known" // one of the two could not be read
)

// String is the change in a line.
func (c Change) String() string {
	switch {
	case c.Row == "":
		return c.Table + ": " + c.What
	case c.Kind == Other:
		return c.Table + ": " + c.Row + ": " + c.What
	}
	return c.Table + ": " + c.Row + " " + c.What
}

// Tables compares the tables of one device with those of another, or of the same at
// another time. Only tables that both were asked for are compared; where one of the two
// could not be read, that is a difference, too: nobody knows.
func Tables(was, is Device, manner func(table string) Manner) (out []Change) {
	if was.Failed != "" || is.Failed != "" {
		return []Change{{Table: "device", What: failed(was, is), Kind: Unknown}}
	}
	for _, name := range names(was, is) {
		a, readA := was.Tables[name]
		b, readB := is.Tables[name]
		wrongA, wrongB := was.Wrong[name], is.Wrong[name]
		switch {
		case wrongA != "" || wrongB != "":
			if asked := readB || name == Config && is.HasConfig(); wrongA != "" && !asked && wrongB == "" {
				continue // it was not asked for again
			}
			out = append(out, Change{Table: name, What: unread(wrongA, wrongB), Kind: Unknown})
		case readA && readB:
			out = append(out, rows(name, a, b, manner(name))...)
		}
	}
	return out
}

// asked are the tables that a device was asked for, and Config where that is recorded.
func (d Device) asked() []string {
	out := append(slices.Collect(maps.Keys(d.Tables)), slices.Collect(maps.Keys(d.Wrong))...)
	if d.HasConfig() {
		out = append(out, Config)
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// Config is what the configuration is called among tables.
const Config = "config"

// Apart tells what one of two readings of a device holds and the other does not, so that
// nobody compared it, and whether there is anything that both hold.
func Apart(was, is Device) (oneSided []string, shared bool) {
	if was.Failed != "" || is.Failed != "" {
		return nil, true // which is a difference by itself
	}
	a, b := was.asked(), is.asked()
	for _, t := range a {
		if slices.Contains(b, t) {
			shared = true
		} else {
			oneSided = append(oneSided, t)
		}
	}
	for _, t := range b {
		if !slices.Contains(a, t) {
			oneSided = append(oneSided, t)
		}
	}
	return oneSided, shared
}

func failed(was, is Device) string {
	switch {
	case was.Failed != "" && is.Failed != "":
		return "what it has is not known, nor what it had: " + is.Failed
	case was.Failed != "":
		return "what it had is not known: " + was.Failed
	}
	return "what it has is not known: " + is.Failed
}

func unread(a, b string) string {
	switch {
	case a != "" && b != "":
		return "could not be read, neither time: " + b
	case a != "":
		return "could not be read the first time: " + a
	}
	return "could not be read: " + b
}

func names(was, is Device) (out []string) {
	for _, d := range []Device{was, is} {
		for n := range d.Tables {
			out = append(out, n)
		}
		for n := range d.Wrong {
			out = append(out, n)
		}
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// rows compares the rows of one table.
func rows(table string, was, is []Row, m Manner) (out []Change) {
	keys := m.keys(was, is)
	if keys == nil {
		return whole(table, was, is, m)
	}
	before, after := byKey(was, keys), byKey(is, keys)
	for _, k := range ordered(before, after) {
		a, inA := before[k]
		b, inB := after[k]
		row := label(keys, a, b)
		switch {
		case !inB:
			out = append(out, Change{Table: table, Row: row, What: "is gone" + inBrackets(gist(a, keys, m)), Kind: Gone})
		case !inA:
			out = append(out, Change{Table: table, Row: row, What: "is new" + inBrackets(gist(b, keys, m)), Kind: New})
		default:
			if what, columns := cells(a, b, keys, m); what != "" {
				out = append(out, Change{Table: table, Row: row, What: what, Kind: Other, columns: columns})
			}
		}
	}
	return out
}

// keys are the columns by which rows are told apart; none where a table is one row on both
// sides; nil where nothing tells them apart.
func (m Manner) keys(was, is []Row) []string {
	if len(m.Keys) == 0 && len(was) == 1 && len(is) == 1 {
		return []string{}
	}
	if len(m.Keys) == 0 {
		return nil
	}
	for _, rows := range [][]Row{was, is} { // two rows of one key: it does not tell them apart
		seen := map[string]bool{}
		for _, r := range rows {
			k := keyOf(r, m.Keys)
			if seen[k] {
				return nil
			}
			seen[k] = true
		}
	}
	return m.Keys
}

func keyOf(r Row, keys []string) string {
	if len(keys) == 1 {
		return Text(r[keys[0]])
	}
	var parts []string
	for _, k := range keys {
		parts = append(parts, Text(r[k]))
	}
	return strings.Join(parts, "\x00")
}

func byKey(rows []Row, keys []string) map[string]Row {
	out := make(map[string]Row, len(rows))
	for _, r := range rows {
		out[keyOf(r, keys)] = r
	}
	return out
}

// ordered are the keys of two maps, in the order in which people count.
func ordered[V any](a, b map[string]V) []string {
	out := slices.Collect(maps.Keys(a))
	for k := range b {
		if _, both := a[k]; !both {
			out = append(out, k)
		}
	}
	slices.SortFunc(out, natural.Compare)
	return out
}

// label is a row by its keys: "port 3".
func label(keys []string, a, b Row) string {
	r := a
	if r == nil {
		r = b
	}
	var parts []string
	for _, k := range keys {
		parts = append(parts, k+" "+Text(r[k]))
	}
	return strings.Join(parts, ", ")
}

// gist is what a row that came or went says, without its keys.
func gist(r Row, keys []string, m Manner) string {
	var parts []string
	for _, c := range ordered(r, nil) {
		if !slices.Contains(keys, c) && m.compared(c) && Text(r[c]) != "" {
			parts = append(parts, c+" "+Text(r[c]))
		}
	}
	return strings.Join(parts, ", ")
}

func inBrackets(s string) string {
	if s == "" {
		return ""
	}
	return " (" + s + ")"
}

func (m Manner) compared(column string) bool { return !slices.Contains(m.Volatile, column) }

// cells says how two rows of one key differ, and in which columns; "" where they do not.
func cells(a, b Row, keys []string, m Manner) (what string, columns []string) {
	var parts []string
	for _, c := range ordered(a, b) {
		if slices.Contains(keys, c) || !m.compared(c) || same(a[c], b[c], m.Within[c]) {
			continue
		}
		parts, columns = append(parts, fmt.Sprintf("%s is %s, was %s", c, orNothing(b[c]), orNothing(a[c]))), append(columns, c)
	}
	return strings.Join(parts, "; "), columns
}

func orNothing(v any) string { return cmp.Or(Text(v), "nothing") }

func same(was, is any, t Tolerance) bool {
	x, isX := was.(float64)
	y, isY := is.(float64)
	if isX && isY {
		return x == y || t.same(x, y)
	}
	return was == is
}

// whole compares rows that nothing tells apart: they are there, or not.
func whole(table string, was, is []Row, m Manner) (out []Change) {
	texts := func(rows []Row) map[string]int {
		n := map[string]int{}
		for _, r := range rows {
			n[gist(r, nil, m)]++
		}
		return n
	}
	a, b := texts(was), texts(is)
	for _, t := range ordered(a, b) {
		for range a[t] - b[t] {
			out = append(out, Change{Table: table, What: t + " is gone", Kind: Gone})
		}
		for range b[t] - a[t] {
			out = append(out, Change{Table: table, What: t + " is new", Kind: New})
		}
	}
	return out
}

// Masked are rows without secrets.
func Masked(rows []Row, mask func(string) string) []Row {
	out := make([]Row, len(rows))
	for i, r := range rows {
		out[i] = make(Row, len(r))
		for c, v := range r {
			if text, ok := v.(string); ok {
				v = mask(text)
			}
			out[i][c] = v
		}
	}
	return out
}

// Text is a value as people read it.
func Text(v any) string {
	switch x := v.(type) {
	case nil:
		return ""
	case string:
		return x
	case bool:
		if x {
			return "yes"
		}
		return "no"
	case float64:
		return strconv.FormatFloat(x, 'f', -1, 64)
	}
	return fmt.Sprint(v)
}
