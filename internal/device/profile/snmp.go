package profile

import (
	"encoding/hex"
	"fmt"
	"maps"
	"net/netip"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"metabasis/internal/core/config"
	"metabasis/internal/core/plan"
	"metabasis/internal/core/problem"
)

// Snmp is how SNMP is spoken with a platform (RFC 3416; RFC 3414 for version 3).
type Snmp struct {
	Version string            `yaml:"version"` // 2c, or 3: with authentication and privacy
	Auth    string            `yaml:"auth"`    // SHA-256 when not given
	Privacy string            `yaml:"privacy"` // AES when not given
	Retries *int              `yaml:"retries"` // how often a request is sent again that is not answered; 2 when not given
	Pause   time.Duration     `yaml:"pause"`   // what it needs between two sets
	Most    int               `yaml:"most"`    // variables in one message; 20 when not given
	Objects map[string]Object `yaml:"objects"`
	Backup  []string          `yaml:"backup"` // the objects that make up its configuration
	Name    string            `yaml:"name"`   // the object that tells its name
	Save    string            `yaml:"save"`   // OBJECT = VALUE: what is set to save
}

// Object is one thing that a device tells, or many: one for each row of a table.
type Object struct {
	OID  string     `yaml:"oid"`
	Type ObjectType `yaml:"type"`
	Each bool       `yaml:"each"` // there is one for each row
}

// ObjectType is how the value of an object is written (RFC 2578, section 7.1).
type ObjectType string

// The types of objects.
const (
	TextObject     ObjectType = "text"     // OCTET STRING
	HexObject      ObjectType = "hex"      // OCTET STRING, in hexadecimal digits
	NumberObject   ObjectType = "number"   // INTEGER
	UnsignedObject ObjectType = "unsigned" // Unsigned32, Gauge32
	CounterObject  ObjectType = "counter"  // Counter32, Counter64, TimeTicks: cannot be set
	AddressObject  ObjectType = "address"  // IpAddress
	OIDObject      ObjectType = "oid"      // OBJECT IDENTIFIER
	DateObject     ObjectType = "date"     // DateAndTime (RFC 2579)
)

var objectTypes = []string{"text", "hex", "number", "unsigned", "counter", "address", "oid", "date"}

// The kinds of authentication and privacy that are strong enough to be offered.
var (
	snmpAuths     = []string{"SHA-256", "SHA-384", "SHA-512", "SHA"}
	snmpPrivacies = []string{"AES", "AES-192", "AES-256"}
)

// Privacy is what the secret of SNMP's encryption is called; the one of its authentication
// is the password.
const Privacy = "privacy"

var (
	oidForm    = regexp.MustCompile(`^\.?\d+(\.\d+)+$`)
	objectName = regexp.MustCompile(`^[A-Za-z][A-Za-z0-9._-]*$`)
	setForm    = regexp.MustCompile(`^set (\S+) = (.*)$`)
	objectForm = regexp.MustCompile(`^([A-Za-z][A-Za-z0-9._-]*)(?:\[([0-9.]+)\])?$`)
)

// Setting is one line of a change: set OBJECT = VALUE, or OBJECT[ROW].
type Setting struct {
	Object Object
	Name   string // with its row
	OID    string
	Value  string
}

// ParseSetting reads a line of a change. The error says what to write instead.
func (p *Profile) ParseSetting(line string) (Setting, error) {
	m := setForm.FindStringSubmatch(strings.TrimSpace(line))
	if m == nil {
		return Setting{}, fmt.Errorf("%q is no change; write set OBJECT = VALUE, and under want OBJECT = VALUE", line)
	}
	s, err := p.object(m[1])
	s.Value = m[2]
	if err == nil && s.Object.Type == CounterObject {
		err = fmt.Errorf("%s is counted by the device and cannot be set", s.Name)
	}
	return s, err
}

// object finds an object by its name and row.
func (p *Profile) object(name string) (Setting, error) {
	m := objectForm.FindStringSubmatch(name)
	if m == nil {
		return Setting{}, fmt.Errorf("%q is no object; write NAME, or NAME[ROW]", name)
	}
	o, known := p.Snmp.Objects[m[1]]
	switch {
	case !known:
		return Setting{}, fmt.Errorf("the profile knows no object %s; write its oid and type under objects of snmp", m[1])
	case o.Each && m[2] == "":
		return Setting{}, fmt.Errorf("there is a %s for each row; write %s[ROW]", m[1], m[1])
	case !o.Each && m[2] != "":
		return Setting{}, fmt.Errorf("there is one %s; write it without [%s]", m[1], m[2])
	}
	s := Setting{Object: o, Name: name, OID: o.OID}
	if m[2] != "" {
		s.OID += "." + m[2]
	}
	return s, nil
}

// snmpSayable says why a line cannot be said, "" when it can. What is wanted is written as
// it is read, without set.
func (p *Profile) snmpSayable(line string) string {
	if line = strings.TrimSpace(line); !strings.HasPrefix(line, "set ") && objectForm.MatchString(strings.SplitN(line, " ", 2)[0]) {
		line = "set " + line
	}
	s, err := p.ParseSetting(line)
	if err == nil {
		err = s.Fits()
	}
	if err != nil {
		return err.Error()
	}
	return ""
}

// Fits tells whether the value is one that the object can have, by its type.
func (s Setting) Fits() error {
	wrong := func(like string) error { return fmt.Errorf("%s = %s: %s is wanted", s.Name, s.Value, like) }
	switch s.Object.Type {
	case HexObject:
		if _, err := hex.DecodeString(s.Value); err != nil {
			return wrong("pairs of hexadecimal digits")
		}
	case NumberObject:
		if _, err := strconv.ParseInt(s.Value, 10, 32); err != nil {
			return wrong("a whole number of 32 bits")
		}
	case UnsignedObject:
		if _, err := strconv.ParseUint(s.Value, 10, 32); err != nil {
			return wrong("a whole number from 0 on, of 32 bits")
		}
	case AddressObject:
		if a, err := netip.ParseAddr(s.Value); err != nil || !a.Is4() {
			return wrong("an IPv4 address")
		}
	case TextObject, OIDObject:
	default:
		return fmt.Errorf("%s is of type %s and cannot be set", s.Name, s.Object.Type)
	}
	return nil
}

// snmpLanguage is how sets change a configuration: each object is set to another value, and
// none can be taken away.
func (p *Profile) snmpLanguage() *config.Language {
	return &config.Language{Style: p.Style(), Rules: []config.Rule{
		{Line: regexp.MustCompile(`^(\S+) = .*$`), Put: "set $0", Key: "$1"},
	}}
}

func (c *checker) snmp() {
	if c.has("models") {
		c.fail("models", "snmp: objects:", "SNMP has objects, and no trees")
	}
	s := &c.p.Snmp
	if versions := []string{"2c", "3"}; !slices.Contains(versions, s.Version) {
		c.fail("snmp.version", problem.OneOf(s.Version, versions), "SNMP version %q is not known", s.Version)
	}
	if s.Auth == "" {
		s.Auth = "SHA-256"
	}
	if s.Privacy == "" {
		s.Privacy = "AES"
	}
	if !slices.Contains(snmpAuths, s.Auth) {
		c.fail("snmp.auth", problem.OneOf(s.Auth, snmpAuths), "authentication by %q is not known, or not strong enough", s.Auth)
	}
	if !slices.Contains(snmpPrivacies, s.Privacy) {
		c.fail("snmp.privacy", problem.OneOf(s.Privacy, snmpPrivacies), "privacy by %q is not known, or not strong enough", s.Privacy)
	}
	if s.Most == 0 {
		s.Most = 20
	}
	if s.Most < 1 || s.Most > 60 {
		c.fail("snmp.most", "most: 20", "a message holds 1 to 60 variables")
	}
	for _, name := range slices.Sorted(maps.Keys(s.Objects)) {
		o, at := s.Objects[name], "snmp.objects"
		if !objectName.MatchString(name) {
			c.fail(at, "sign.text", "%q cannot be an object's name", name)
		}
		if !oidForm.MatchString(o.OID) {
			c.fail(at, "oid: 1.3.6.1.2.1.1.5.0", "%s: %q is no object identifier", name, o.OID)
		}
		if !slices.Contains(objectTypes, string(o.Type)) {
			c.fail(at, problem.OneOf(string(o.Type), objectTypes), "%s: type %q is not known", name, o.Type)
		}
		o.OID = strings.TrimPrefix(o.OID, ".")
		s.Objects[name] = o
	}
	known := func(at, name string) {
		if _, ok := s.Objects[name]; !ok {
			c.fail(at, problem.OneOf(name, slices.Sorted(maps.Keys(s.Objects))), "there is no object %q under snmp: objects:", name)
		}
	}
	for _, name := range s.Backup {
		known("snmp.backup", name)
	}
	if len(s.Backup) == 0 {
		c.fail("snmp.backup", "backup: [sign.text]", "nothing says which objects make up its configuration")
	}
	if s.Name != "" {
		known("snmp.name", s.Name)
	}
	if s.Save != "" {
		if _, err := c.p.ParseSetting("set " + s.Save); err != nil {
			c.fail("snmp.save", "save: store.now = 1", "%v", err)
		}
	}
	if c.p.Timer.Kind != plan.NoTimer {
		c.fail("timer.kind", "none", "SNMP takes nothing back by itself")
	}
	for _, name := range slices.Sorted(maps.Keys(c.p.Readers)) {
		c.snmpReader("readers."+name, name)
	}
}

// snmpReader checks a table that is made of objects.
func (c *checker) snmpReader(path, name string) {
	r := c.p.Readers[name]
	r.order = c.keys(path + ".columns")
	if r.Get != "" || r.Send != "" || r.Row.Regexp != nil {
		c.fail(path, "each: OBJECT, for a table of many rows", "get:, send: and row: are for other protocols")
	}
	if o, known := c.p.Snmp.Objects[r.Each]; r.Each != "" && (!known || !o.Each) {
		c.fail(path+".each", "an object with each: true", "%q is not an object of which there is one for each row", r.Each)
	}
	if len(r.Columns) == 0 {
		c.fail(path, "columns:", "the table has no columns")
	}
	for _, column := range slices.Sorted(maps.Keys(r.Columns)) {
		col := r.Columns[column]
		at := path + ".columns." + column
		if col.At == "" {
			col.At = column
		}
		o, known := c.p.Snmp.Objects[col.At]
		switch {
		case col.At == RowOf && r.Each != "":
		case !known:
			c.fail(at, problem.OneOf(col.At, slices.Sorted(maps.Keys(c.p.Snmp.Objects))), "there is no object %q under snmp: objects:", col.At)
		case o.Each != (r.Each != ""):
			c.fail(at, "", "%s is one for each row, and the table is not, or the other way about", col.At)
		}
		c.columnType(at, col)
		r.Columns[column] = col
	}
	c.p.Readers[name] = r
}

// RowOf is where the number of a row stands.
const RowOf = "row"

// Value makes a column's value of what an object says.
func (c Column) Value(text string) (any, error) {
	if m := c.Match.Find(text); m != nil {
		text = m[1]
	} else if c.Match.Regexp != nil {
		return nil, fmt.Errorf("%q does not fit its pattern", text)
	}
	return c.value(text)
}

// snmpTraits are what is so of devices that speak SNMP.
func (p *Profile) snmpTraits(t *plan.Traits) {
	t.Stages, t.Saves, t.TellsSaved = true, p.Snmp.Save != "", false
	t.ClearText = p.Snmp.Version == "2c"
}

// snmpClaims tells what can be proven on devices that speak SNMP.
func (p *Profile) snmpClaims() []Claim {
	var by []string
	if p.Snmp.Name != "" {
		by = append(by, "the object "+p.Snmp.Name+" tells its name")
	}
	device := p.claimIdentity(by)
	outlives := Claim{"a change outlives a restart", "nothing is saved by us, and what is saved cannot be read", Not}
	if p.Snmp.Save != "" {
		outlives.How = "it is saved, and what is saved cannot be read"
	}
	return []Claim{
		device,
		{"what was sent is what arrived", "each answer has the number of its request, and says the values back", Yes},
		{"a line did what it should", "what was set is read, and compared", Yes},
		{"all of a configuration was read", fmt.Sprintf("the %s that its profile lists; what others there are, nobody sees", Plural(len(p.Snmp.Backup), "object")), Partly},
		{"what runs", "the objects are read", Yes},
		{"what is saved", "there is no way to read it", Not},
		outlives,
		{"a timer takes the change back", "it has none: a device that is lost in a change stays lost", Not},
		p.claimAlone(),
		{"an answer is complete", "it is one message, with an end of its own", Yes},
	}
}
