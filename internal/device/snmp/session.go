package snmp

import (
	"context"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"

	"github.com/gosnmp/gosnmp"

	"metabasis/internal/core/config"
	"metabasis/internal/core/driver"
	"metabasis/internal/core/identity"
	"metabasis/internal/core/work"
	"metabasis/internal/device/profile"
	"metabasis/internal/device/tree"
)

// errNone is an object that the device does not have.
var errNone = errors.New("it does not have it")

// Session works one device by SNMP. It implements [driver.Session] and is used by one
// goroutine at a time.
type Session struct {
	profile.Confided
	p      *profile.Profile
	g      *gosnmp.GoSNMP
	log    profile.Transcript
	host   string
	asked  bool              // who it is was told since it began
	staged []profile.Setting // lines that are not sent yet
	sent   time.Time         // when the last set was
	broken error             // why it is of no more use
}

var (
	_ driver.Session  = (*Session)(nil)
	_ driver.Restorer = (*Session)(nil)
	_ driver.Saver    = (*Session)(nil)
)

// ask does one request. What is what is asked, in words.
func (s *Session) ask(ctx context.Context, what string, request func() (*gosnmp.SnmpPacket, error)) (*gosnmp.SnmpPacket, error) {
	what = s.Mask(what)
	if s.broken != nil {
		return nil, s.broken
	}
	s.log.Sent("snmp> ", what)
	s.g.Context = ctx
	release := context.AfterFunc(ctx, func() { _ = s.g.Conn.SetDeadline(time.Unix(1, 0)) })
	got, err := request()
	release()
	switch {
	case ctx.Err() != nil:
		err = context.Cause(ctx)
	case err == nil && got.Error != gosnmp.NoError:
		why := got.Error.String() // as in RFC 3416, section 3, but for its first letter
		why = strings.ToLower(why[:1]) + why[1:]
		if i := int(got.ErrorIndex); i > 0 && i <= len(got.Variables) {
			why += " at " + s.named(got.Variables[i-1].Name)
		}
		s.log.Got([]string{"error: " + why})
		return nil, &driver.Refused{Line: what, Said: why}
	case err == nil:
		return got, nil
	default:
		err = s.explain(err)
	}
	s.broken = err
	s.log.Note(s.Mask(err.Error()))
	return nil, err
}

// explain says what it means that a request was not answered.
func (s *Session) explain(err error) error {
	switch {
	case errors.Is(err, gosnmp.ErrUnknownUsername),
		errors.Is(err, gosnmp.ErrWrongDigest),
		errors.Is(err, gosnmp.ErrDecryption),
		errors.Is(err, gosnmp.ErrUnknownSecurityLevel):
		return fmt.Errorf("%w: %w", driver.ErrDenied, err)
	case strings.Contains(err.Error(), "not authentic"): // the library has no name for it
		return fmt.Errorf("%w: its answer is not signed by the password we have", driver.ErrDenied)
	case errors.Is(err, gosnmp.ErrMaxRetriesExceeded), strings.Contains(err.Error(), "timeout"), errors.Is(err, context.DeadlineExceeded):
		return fmt.Errorf("no answer in %s", s.patience())
	}
	text, _, _ := strings.Cut(err.Error(), " Stack:") // of a message that cannot be read
	return errors.New(text)
}

// patience is how long a request waits in all.
func (s *Session) patience() time.Duration { return s.g.Timeout * time.Duration(s.g.Retries+1) }

// named is what the profile calls an object identifier.
func (s *Session) named(oid string) string {
	oid = strings.TrimPrefix(oid, ".")
	for name, o := range s.p.Snmp.Objects {
		if !o.Each && o.OID == oid {
			return name
		}
		if row, ok := strings.CutPrefix(oid, o.OID+"."); ok && o.Each {
			return name + "[" + row + "]"
		}
	}
	return oid
}

// values are what objects say, by their names with their rows, in order.
type values struct {
	names []string
	by    map[string]string
}

// read reads objects: all rows of one that there is one of for each.
func (s *Session) read(ctx context.Context, names []string) (values, error) {
	v := values{by: map[string]string{}}
	var single []string
	for _, name := range names {
		if o := s.p.Snmp.Objects[name]; o.Each {
			if err := s.walk(ctx, name, o, &v); err != nil {
				return v, err
			}
			continue
		}
		single = append(single, name)
	}
	for part := range slices.Chunk(single, s.p.Snmp.Most) {
		var oids []string
		for _, name := range part {
			oids = append(oids, "."+s.p.Snmp.Objects[name].OID)
		}
		got, err := s.ask(ctx, "get "+strings.Join(part, ", "), func() (*gosnmp.SnmpPacket, error) { return s.g.Get(oids) })
		if err != nil {
			return v, err
		}
		if len(got.Variables) != len(part) {
			return v, &driver.Unclear{Asked: "get " + strings.Join(part, ", "), Got: fmt.Sprintf("%d values", len(got.Variables))}
		}
		for i, name := range part {
			if err := s.take(&v, name, s.p.Snmp.Objects[name].OID, s.p.Snmp.Objects[name], got.Variables[i]); err != nil {
				return v, err
			}
		}
	}
	// In the order in which they were asked for, the rows of each together.
	place := func(name string) int {
		bare, _, _ := strings.Cut(name, "[")
		return slices.Index(names, bare)
	}
	slices.SortStableFunc(v.names, func(a, b string) int { return place(a) - place(b) })
	return v, nil
}

// take takes in what an object says. One that is not there says nothing.
func (s *Session) take(v *values, name, oid string, o profile.Object, got gosnmp.SnmpPDU) error {
	if strings.TrimPrefix(got.Name, ".") != oid {
		return &driver.Unclear{Asked: "get " + name, Got: "the value of " + s.named(got.Name)}
	}
	text, err := told(o, got)
	if errors.Is(err, errNone) {
		return nil
	}
	if err != nil {
		return &driver.Unclear{Asked: "get " + name, Got: err.Error()}
	}
	v.names = append(v.names, name)
	v.by[name] = text
	s.log.Got([]string{s.Mask(name + " = " + text)})
	return nil
}

// maxRows bounds how many rows a table may have: a device whose answers never come to an end
// costs no more.
const maxRows = 10_000

// walk reads an object of each row (RFC 3416, section 4.2.3).
func (s *Session) walk(ctx context.Context, name string, o profile.Object, v *values) error {
	at := o.OID
	for range maxRows {
		got, err := s.ask(
			ctx,
			"get the "+name+" behind "+s.named(at),
			func() (*gosnmp.SnmpPacket, error) { return s.g.GetBulk([]string{"." + at}, 0, uint32(s.p.Snmp.Most)) },
		)
		if err != nil {
			return err
		}
		if len(got.Variables) == 0 {
			return &driver.Unclear{Asked: "get " + name, Got: "nothing"}
		}
		for _, pdu := range got.Variables {
			oid := strings.TrimPrefix(pdu.Name, ".")
			row, in := strings.CutPrefix(oid, o.OID+".")
			if !in || pdu.Type == gosnmp.EndOfMibView {
				return nil
			}
			if !rises(at, oid) {
				return &driver.Unclear{Asked: "get " + name, Got: "rows that go back from " + at + " to " + oid}
			}
			if err := s.take(v, name+"["+row+"]", oid, o, pdu); err != nil {
				return err
			}
			if at = oid; len(v.names) > maxRows {
				return &driver.Unclear{Asked: "get " + name, Got: fmt.Sprintf("more than %d rows", maxRows)}
			}
		}
	}
	return &driver.Unclear{Asked: "get " + name, Got: "rows without an end"}
}

// rises tells whether an object identifier comes behind another.
func rises(a, b string) bool {
	as, bs := strings.Split(a, "."), strings.Split(b, ".")
	for i := range min(len(as), len(bs)) {
		x, _ := strconv.ParseUint(as[i], 10, 32)
		y, _ := strconv.ParseUint(bs[i], 10, 32)
		if x != y {
			return x < y
		}
	}
	return len(as) < len(bs)
}

// Config reads the objects of its configuration.
func (s *Session) Config(ctx context.Context, which driver.Which) (string, error) {
	if which == driver.Saved {
		return "", &driver.Refused{Line: "saved configuration", Said: "SNMP says no way to read it"}
	}
	v, err := s.read(ctx, s.p.Snmp.Backup)
	if err != nil {
		return "", err
	}
	for _, name := range s.p.Snmp.Backup {
		if _, ok := v.by[name]; !ok && !s.p.Snmp.Objects[name].Each {
			return "", &driver.Unclear{Asked: "get " + name, Got: "it does not have it, and it is a part of its configuration"}
		}
	}
	var b strings.Builder
	for _, name := range v.names {
		b.WriteString(name + " = " + v.by[name] + "\n")
	}
	if b.Len() == 0 {
		return "", &driver.Unclear{Asked: "configuration", Got: "nothing"}
	}
	return b.String(), nil
}

// Read reads a table.
func (s *Session) Read(ctx context.Context, table string) (any, error) {
	r, ok := s.p.Readers[table]
	if !ok {
		return nil, &driver.Unclear{Asked: table, Got: "the profile of " + s.p.Platform + " has no such reader"}
	}
	var names []string
	for _, c := range r.Columns {
		if c.At != profile.RowOf && !slices.Contains(names, c.At) {
			names = append(names, c.At)
		}
	}
	if r.Each != "" && !slices.Contains(names, r.Each) {
		names = append(names, r.Each)
	}
	slices.Sort(names)
	v, err := s.read(ctx, names)
	if err != nil {
		return nil, err
	}
	if r.Each == "" {
		return s.row(table, r, v, "")
	}
	rows := []map[string]any{}
	for _, name := range v.names {
		if row, ok := strings.CutPrefix(name, r.Each+"["); ok {
			one, err := s.row(table, r, v, strings.TrimSuffix(row, "]"))
			if err != nil {
				return nil, err
			}
			rows = append(rows, one)
		}
	}
	return rows, nil
}

func (s *Session) row(table string, r profile.Reader, v values, row string) (map[string]any, error) {
	out := map[string]any{}
	for name, c := range r.Columns {
		at := c.At
		if row != "" {
			at += "[" + row + "]"
		}
		text, ok := v.by[at]
		if c.At == profile.RowOf {
			text, ok = row, true
		}
		if !ok && c.Optional {
			out[name] = nil
			continue
		}
		if !ok {
			return nil, &driver.Unclear{Asked: table, Got: "it does not have " + at}
		}
		if plain, err := tree.Read(text); err == nil {
			text = plain
		}
		value, err := c.Value(text)
		if err != nil {
			return nil, &driver.Unclear{Asked: table, Got: s.Mask(fmt.Sprintf("column %s: %v", name, err))}
		}
		out[name] = value
	}
	return out, nil
}

// Edit begins a change.
func (s *Session) Edit(context.Context) error { return s.broken }

// Line stages a set: those of a step go in one message.
func (s *Session) Line(_ context.Context, line string) error {
	set, err := s.p.ParseSetting(line)
	if err == nil {
		_, err = variable(set)
	}
	switch {
	case err != nil:
		return &driver.Refused{Line: s.Mask(line), Said: s.Mask(err.Error()) + "; nothing was sent"}
	case slices.ContainsFunc(s.staged, func(o profile.Setting) bool { return o.OID == set.OID }):
		return &driver.Refused{Line: s.Mask(line), Said: set.Name + " is set twice in one step, which is one message; nothing was sent"}
	case len(s.staged) == s.p.Snmp.Most:
		return &driver.Refused{
			Line: s.Mask(line),
			Said: fmt.Sprintf("a step is one message, which holds %d sets; nothing was sent", s.p.Snmp.Most),
		}
	}
	s.staged = append(s.staged, set)
	return s.broken
}

// Apply sends what is staged, and reads it.
func (s *Session) Apply(ctx context.Context, _ time.Duration) error {
	staged := s.staged
	s.staged = nil
	return s.set(ctx, staged)
}

// set sets objects in one message, reads them and compares.
func (s *Session) set(ctx context.Context, list []profile.Setting) error {
	if len(list) == 0 {
		return s.broken
	}
	var pdus []gosnmp.SnmpPDU
	var what []string
	for _, set := range list {
		v, err := variable(set)
		if err != nil {
			return &driver.Refused{Line: s.Mask(set.Name), Said: s.Mask(err.Error()) + "; nothing was sent"}
		}
		pdus, what = append(pdus, v), append(what, set.Name+" = "+set.Value)
	}
	if err := s.maySet(ctx); err != nil {
		return err
	}
	_, err := s.ask(ctx, "set "+strings.Join(what, ", "), func() (*gosnmp.SnmpPacket, error) { return s.g.Set(pdus) })
	s.sent = time.Now()
	if err != nil {
		return err
	}
	for _, set := range list {
		if set.Name == s.p.Snmp.Name { // it has the name that we gave it
			s.host = set.Value
		}
	}
	return s.proven(ctx, list)
}

// maySet waits until the device takes another set, and sees that it is still the same one.
func (s *Session) maySet(ctx context.Context) error {
	if err := s.pause(ctx); err != nil {
		return err
	}
	return s.itself(ctx)
}

// itself sees, right before something is set, that it is still the same device: each message
// is sent on its own, and what is at the address may be another by now.
func (s *Session) itself(ctx context.Context) error {
	name := s.p.Snmp.Name
	if name == "" {
		return nil
	}
	v, err := s.read(ctx, []string{name})
	if err != nil {
		return err
	}
	is, err := tree.Read(v.by[name])
	if err == nil && is != s.host {
		err = fmt.Errorf("%w: it calls itself %s, not %s", work.ErrOther, is, s.host)
	}
	if err != nil {
		s.broken = err
		s.log.Note(s.Mask(err.Error()))
	}
	return err
}

// pause waits until a device takes another set.
func (s *Session) pause(ctx context.Context) error {
	left := time.Until(s.sent.Add(s.p.Snmp.Pause))
	if s.sent.IsZero() || left <= 0 {
		return nil
	}
	select {
	case <-time.After(left):
		return nil
	case <-ctx.Done():
		return context.Cause(ctx)
	}
}

// proven reads what was set: a device that takes a set as a whole or not at all is what the
// RFC asks for, and not what every device does.
func (s *Session) proven(ctx context.Context, list []profile.Setting) error {
	var oids []string
	for _, set := range list {
		oids = append(oids, "."+set.OID)
	}
	got, err := s.ask(ctx, "get what was set", func() (*gosnmp.SnmpPacket, error) { return s.g.Get(oids) })
	if err != nil {
		return err
	}
	if len(got.Variables) != len(list) {
		return &driver.Unclear{Asked: "get what was set", Got: fmt.Sprintf("%d values", len(got.Variables))}
	}
	v := values{by: map[string]string{}}
	for i, set := range list {
		if err := s.take(&v, set.Name, set.OID, set.Object, got.Variables[i]); err != nil {
			return err
		}
		want, _ := variable(set)
		text, err := told(set.Object, want)
		if now, ok := v.by[set.Name]; err != nil || !ok || now != text {
			return &driver.Unclear{Asked: s.Mask("set " + set.Name + " = " + set.Value), Got: s.Mask("it says yes, and reads " + now)}
		}
	}
	return nil
}

// Drop forgets what is staged.
func (s *Session) Drop(context.Context) error {
	s.staged = nil
	return s.broken
}

// Restore sets all objects that are not as they were.
func (s *Session) Restore(ctx context.Context, backup string) error {
	s.staged = nil
	now, err := s.read(ctx, s.p.Snmp.Backup)
	if err != nil {
		return err
	}
	var list []profile.Setting
	for line := range strings.Lines(config.Alone(backup)) {
		if line = strings.TrimSpace(line); line == "" {
			continue
		}
		set, err := s.p.ParseSetting("set " + line)
		if err != nil {
			return &driver.Refused{Line: "restore", Said: "the backup cannot be read: " + s.Mask(err.Error()) + "; nothing was sent"}
		}
		if now.by[set.Name] != set.Value {
			list = append(list, set)
		}
	}
	for part := range slices.Chunk(list, s.p.Snmp.Most) {
		if err := s.set(ctx, part); err != nil {
			return err
		}
	}
	return nil
}

// Save sets the object that saves, where there is one.
func (s *Session) Save(ctx context.Context) error {
	if s.p.Snmp.Save == "" {
		return nil
	}
	set, err := s.p.ParseSetting("set " + s.p.Snmp.Save)
	if err != nil {
		return err
	}
	v, err := variable(set)
	if err != nil {
		return err
	}
	if err := s.maySet(ctx); err != nil {
		return err
	}
	_, err = s.ask(ctx, "set "+s.p.Snmp.Save+", which saves", func() (*gosnmp.SnmpPacket, error) { return s.g.Set([]gosnmp.SnmpPDU{v}) })
	s.sent = time.Now()
	return err
}

// SNMP has no timer, no trial and no whole files.

// Look implements [driver.Looker].
func (s *Session) Look(ctx context.Context, _, command string) ([]string, error) {
	return s.Ask(ctx, command, false)
}

// numbered is an object by its number, such as 1.3.6.1.2.1.1.3.0.
var numbered = regexp.MustCompile(`^\.?1(\.\d+){3,127}$`)

// byNumber reads one object that the profile does not name.
func (s *Session) byNumber(ctx context.Context, oid string) ([]string, error) {
	oid = "." + strings.TrimPrefix(oid, ".")
	got, err := s.ask(ctx, "get "+oid, func() (*gosnmp.SnmpPacket, error) { return s.g.Get([]string{oid}) })
	if err != nil {
		return nil, err
	}
	var out []string
	for _, v := range got.Variables {
		switch v.Type {
		case gosnmp.NoSuchObject, gosnmp.NoSuchInstance, gosnmp.EndOfMibView, gosnmp.Null:
		default:
			out = append(out, s.Mask(strings.TrimPrefix(v.Name, ".")+" = "+plainValue(v)))
		}
	}
	return out, nil
}

// plainValue is a value of which nobody says what type it is to be.
func plainValue(v gosnmp.SnmpPDU) string {
	b, octets := v.Value.([]byte)
	if !octets {
		return fmt.Sprint(v.Value)
	}
	if utf8.Valid(b) && !strings.ContainsFunc(string(b), unicode.IsControl) {
		return string(b)
	}
	return fmt.Sprintf("%x", b)
}

// Ask answers what a person wants to know: get OBJECT, by its name or its number.
func (s *Session) Ask(ctx context.Context, command string, _ bool) ([]string, error) {
	name, ok := strings.CutPrefix(strings.TrimSpace(command), "get ")
	if name = strings.TrimSpace(name); ok && numbered.MatchString(name) {
		return s.byNumber(ctx, name)
	}
	if _, known := s.p.Snmp.Objects[name]; !ok || !known {
		return nil, &driver.Refused{Line: s.Mask(command), Said: "over SNMP only get OBJECT is asked: one of the objects of its profile, or a number such as 1.3.6.1.2.1.1.3.0"}
	}
	v, err := s.read(ctx, []string{name})
	var out []string
	for _, n := range v.names {
		out = append(out, s.Mask(n+" = "+v.by[n]))
	}
	return out, err
}

// Host is the device's own name; "" when its profile does not say which object tells it.
func (s *Session) Host() string { return s.host }

// engine is what version 3 knows a device by (RFC 3411, section 3.1.1.1); "" in version 2c.
func (s *Session) engine() string {
	usm, ok := s.g.SecurityParameters.(*gosnmp.UsmSecurityParameters)
	if !ok || usm.AuthoritativeEngineID == "" {
		return ""
	}
	return fmt.Sprintf("engine %x", usm.AuthoritativeEngineID)
}

// Who says who the device says it is. There is no connection: it is asked each time, but for
// the first, which Start has asked.
func (s *Session) Who(ctx context.Context) (identity.Seen, error) {
	if name := s.p.Snmp.Name; name != "" && s.asked {
		v, err := s.read(ctx, []string{name})
		if err != nil {
			return identity.Seen{}, err
		}
		if s.host, err = tree.Read(v.by[name]); err != nil {
			return identity.Seen{}, &driver.Unclear{Asked: name, Got: s.Mask(err.Error())}
		}
	}
	s.asked = true
	return s.p.Who(ctx, s.host, s.engine, s.Read)
}

// Close ends the session.
func (s *Session) Close() error { return s.g.Conn.Close() }
