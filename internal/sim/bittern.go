package sim

import (
	"fmt"
	"maps"
	"net"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"time"
)

// A bittern is a passenger sign that speaks SNMP and nothing else: version 2c with its
// community, or version 3 with authentication and privacy. What is set runs at once; what is
// not stored is gone after a restart. A set of several variables is carried out as a whole
// or not at all (RFC 3416, section 4.2.5), unless it has the fault half set.

// bitternObject is one thing that a sign tells.
type bitternObject struct {
	name string
	tag  byte
	may  func(value string) bool // nil: it cannot be set
}

func shortText(v string) bool { return len(v) <= 40 }

func upTo(most int) func(string) bool {
	return func(v string) bool { n, err := strconv.Atoi(v); return err == nil && n >= 0 && n <= most }
}

func isAddress(v string) bool { a, err := netip.ParseAddr(v); return err == nil && a.Is4() }

// signs is where the objects of a sign stand: below an enterprise's number that is for
// examples (RFC 5612).
const signs = "1.3.6.1.4.1.32473.7."

var bitternObjects = map[string]bitternObject{
	"1.3.6.1.2.1.1.4.0": {"system.contact", tagOctets, shortText},
	"1.3.6.1.2.1.1.5.0": {"system.name", tagOctets, shortText},
	"1.3.6.1.2.1.1.6.0": {"system.location", tagOctets, shortText},
	signs + "1.0":       {"sign.brightness", tagInteger, upTo(100)},
	signs + "2.0":       {"sign.clock", tagAddress, isAddress},
	signs + "3.0":       {"sign.night", tagInteger, upTo(1)},
	signs + "10.1.2.1":  {"sign.text[1]", tagOctets, shortText},
	signs + "10.1.2.2":  {"sign.text[2]", tagOctets, shortText},
	signs + "10.1.2.3":  {"sign.text[3]", tagOctets, shortText},
	signs + "10.1.2.4":  {"sign.text[4]", tagOctets, shortText},
	signs + "20.0":      {"sign.store", tagInteger, upTo(1)},
	signs + "30.0":      {"sign.version", tagOctets, nil},
	signs + "31.0":      {"sign.free", tagGauge, nil},
	signs + "32.0":      {"sign.now", tagOctets, nil},
	signs + "33.0":      {"sign.follows", tagAddress, nil},
	signs + "34.0":      {"sign.steady", tagInteger, nil},
}

// bitternState is what a sign keeps: values by object identifier.
type bitternState struct {
	running, stored map[string]string
	usm             *usm
	community       string
	user            string
	password        string
}

func newBitternState(spec Spec, users map[string]string, privacy string) *bitternState {
	b := &bitternState{running: map[string]string{
		"1.3.6.1.2.1.1.4.0": "night crew", "1.3.6.1.2.1.1.5.0": spec.Name, "1.3.6.1.2.1.1.6.0": spec.Site,
		signs + "1.0": "80", signs + "2.0": "192.0.2.9", signs + "3.0": "0",
		signs + "10.1.2.1": "Quay 1", signs + "10.1.2.2": "", signs + "10.1.2.3": "", signs + "10.1.2.4": "Mind the gap",
	}}
	for _, user := range slices.Sorted(maps.Keys(users)) { // it knows one
		b.user, b.password, b.community = user, users[user], users[user]
	}
	b.stored = maps.Clone(b.running)
	b.usm = newUSM(spec.Name, b.password, privacy)
	return b
}

// signText prints what a sign keeps, as it is read.
func signText(values map[string]string) string {
	var b strings.Builder
	for _, at := range slices.SortedFunc(maps.Keys(values), byOID) {
		v := values[at]
		if v == "" || strings.TrimSpace(v) != v {
			v = strconv.Quote(v)
		}
		fmt.Fprintf(&b, "%s = %s\n", bitternObjects[at].name, v)
	}
	return b.String()
}

func byOID(a, b string) int {
	switch {
	case before(a, b):
		return -1
	case before(b, a):
		return 1
	}
	return 0
}

// answer answers one message; nil where it says nothing.
func (d *Device) answer(msg []byte) []byte {
	b := d.signs
	_, body, _, ok := unber(msg)
	if !ok {
		return nil
	}
	tags, top, ok := parts(body)
	switch {
	case !ok || len(top) < 3:
		return nil
	case number(top[0]) == 1: // version 2c
		if string(top[1]) != b.community || d.hasFault(BadPassword) || d.spec.V3Only {
			d.denied()
			return nil
		}
		pdu := d.pdu(ber(tags[2], top[2]))
		if pdu == nil {
			return nil
		}
		return ber(tagSequence, berInt(tagInteger, 1), ber(tagOctets, top[1]), pdu)
	case number(top[0]) == 3:
		a, ok := b.usm.open(slices.Clone(msg), b.user, d.hasFault(BadPassword))
		if !ok {
			return nil
		}
		if a.report != "" {
			if a.report == reportDigest || a.report == reportUser {
				d.denied()
			}
			return b.usm.close(a, ber(tagReport, berInt(tagInteger, 0), berInt(tagInteger, 0), berInt(tagInteger, 0),
				ber(tagSequence, ber(tagSequence, berOID(a.report), berInt(0x41, 1)))))
		}
		pdu := d.pdu(a.pdu)
		if pdu == nil {
			return nil
		}
		return b.usm.close(a, pdu)
	}
	return nil
}

func (d *Device) denied() {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.note(Denied, "")
}

// variable is one variable of a message.
type variable struct {
	at    string
	tag   byte
	value []byte
}

// pdu answers a request; nil where it says nothing.
func (d *Device) pdu(msg []byte) []byte {
	kind, body, _, ok := unber(msg)
	if !ok {
		return nil
	}
	_, in, ok := parts(body)
	if !ok || len(in) != 4 {
		return nil
	}
	var vars []variable
	_, list, ok := parts(in[3])
	if !ok {
		return nil
	}
	for _, v := range list {
		tags, pair, ok := parts(v)
		if !ok || len(pair) != 2 {
			return nil
		}
		vars = append(vars, variable{oid(pair[0]), tags[1], pair[1]})
	}
	line := d.asked(kind, vars)
	st := d.strikes(line)
	time.Sleep(st.wait)
	if st.hang || st.drop {
		return nil
	}
	if st.restart {
		d.restart()
		return nil
	}
	status, at := 0, 0
	switch kind {
	case tagGet:
		for i, v := range vars {
			vars[i] = d.tells(v.at)
		}
	case tagGetNext, tagGetBulk:
		vars = d.following(vars, max(number(in[2]), 1), kind == tagGetBulk)
	case tagSet:
		if status, at = d.sets(line, vars, st.balk); d.struckAt(DropsAfter, line) {
			return nil
		}
	default:
		return nil
	}
	var out []byte
	for _, v := range vars {
		out = append(out, ber(tagSequence, berOID(v.at), ber(v.tag, v.value))...)
	}
	return ber(tagResponse, ber(tagInteger, in[0]), berInt(tagInteger, status), berInt(tagInteger, at), ber(tagSequence, out))
}

func (d *Device) struckAt(kind, line string) bool {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.fault(kind, line) != nil
}

// asked is a request in words, for faults to match.
func (d *Device) asked(kind byte, vars []variable) string {
	var said []string
	for _, v := range vars {
		name := bitternObjects[v.at].name
		if kind == tagSet {
			name = "set " + name + " = " + v.text()
		}
		said = append(said, name)
	}
	if kind == tagSet {
		return strings.Join(said, "; ")
	}
	return "get " + strings.Join(said, ", ")
}

func (v variable) text() string {
	switch v.tag {
	case tagInteger, tagGauge:
		return fmt.Sprint(number(v.value))
	case tagAddress:
		if a, ok := netip.AddrFromSlice(v.value); ok {
			return a.String()
		}
	}
	return string(v.value)
}

// tells is what an object says.
func (d *Device) tells(at string) variable {
	d.mu.Lock()
	defer d.mu.Unlock()
	o, known := bitternObjects[at]
	if !known {
		return variable{at, tagNoObject, nil}
	}
	now, source, settled := d.clock()
	text, plain := d.signs.running[at]
	v := variable{at: at, tag: o.tag}
	switch {
	case plain && d.fault(CutShort, o.name) != nil:
		return variable{at, tagNoRow, nil}
	case plain:
	case o.name == "sign.store":
		text = "0"
	case o.name == "sign.version":
		text = d.spec.Version
	case o.name == "sign.free":
		text = fmt.Sprint(d.spec.FreeMB)
	case o.name == "sign.now":
		u := now.UTC()
		v.value = []byte{
			byte(u.Year() >> 8),
			byte(u.Year()),
			byte(u.Month()),
			byte(u.Day()),
			byte(u.Hour()),
			byte(u.Minute()),
			byte(u.Second()),
			0,
		}
		return v
	case o.name == "sign.follows":
		text = orElse(source, "0.0.0.0")
	case o.name == "sign.steady":
		text = map[bool]string{true: "1", false: "0"}[settled]
	}
	switch o.tag {
	case tagInteger, tagGauge:
		n, _ := strconv.Atoi(text)
		v.value = berInt(o.tag, n)[2:]
	case tagAddress:
		if a, err := netip.ParseAddr(text); err == nil {
			v.value = a.AsSlice()
		}
	default:
		v.value = []byte(text)
	}
	return v
}

// following are the objects behind those asked for (RFC 3416, sections 4.2.2 and 4.2.3).
func (d *Device) following(vars []variable, most int, bulk bool) (out []variable) {
	order := slices.SortedFunc(maps.Keys(bitternObjects), byOID)
	if !bulk {
		most = 1
	}
	for _, v := range vars {
		for at := v.at; len(out) < most; {
			i := slices.IndexFunc(order, func(o string) bool { return before(at, o) })
			if i < 0 {
				out = append(out, variable{at, tagEnd, nil})
				break
			}
			at = order[i]
			out = append(out, d.tells(at))
		}
	}
	return out
}

// The errors of a set (RFC 3416, section 4.2.5).
const (
	errWrongType   = 7
	errWrongValue  = 10
	errNotWritable = 17
	errGeneral     = 5
	errCommit      = 14
)

// sets carries out a set, and tells what is wrong with which variable.
func (d *Device) sets(line string, vars []variable, balks bool) (status, at int) {
	defer d.moved()
	d.mu.Lock()
	defer d.mu.Unlock()
	d.note(Staged, line)
	for i, v := range vars {
		o, known := bitternObjects[v.at]
		switch said := "set " + o.name + " = " + v.text(); {
		case !known || o.may == nil:
			return errNotWritable, i + 1
		case o.tag != v.tag:
			return errWrongType, i + 1
		case !o.may(v.text()), d.fault(Rejects, said) != nil:
			d.note(Rejected, said)
			return errWrongValue, i + 1
		}
	}
	if balks {
		return errGeneral, 1
	}
	half := d.fault(HalfSet, line) != nil
	for i, v := range vars {
		if half && i >= (len(vars)+1)/2 {
			break
		}
		if o := bitternObjects[v.at]; o.name == "sign.store" {
			if status := d.storeSigns(); status != 0 {
				return status, i + 1
			}
			continue
		}
		said := "set " + bitternObjects[v.at].name + " = " + v.text()
		if d.fault(Ignores, said) != nil || d.signs.running[v.at] == v.text() {
			continue
		}
		d.signs.running[v.at] = v.text()
		d.note(Changed, said)
		if d.fault(CutsOff, said) != nil {
			d.cut = true
		}
	}
	d.running.times = []string{d.signs.running[signs+"2.0"]}
	d.follow()
	if half {
		return errCommit, len(vars)
	}
	return 0, 0
}

// storeSigns makes what runs what it starts with. The caller holds d.mu.
func (d *Device) storeSigns() int {
	if d.fault(NoSave, "") != nil {
		return errGeneral
	}
	if d.fault(QuietSave, "") == nil {
		d.signs.stored = maps.Clone(d.signs.running)
		d.note(Saved, "")
	}
	return 0
}

// datagrams serves SNMP on a connection that keeps messages apart. Like a network, it takes
// what is sent at any time, and loses what nobody has room for.
func (d *Device) datagrams(c net.Conn) {
	defer c.Close()
	asked := make(chan []byte, 16)
	defer close(asked)
	d.fleet.wg.Go(func() {
		for msg := range asked {
			if d := d.fleet.inPlaceOf(d); d.reachable.Load() {
				if out := d.answer(msg); out != nil && d.reachable.Load() {
					_, _ = c.Write(out)
				}
			}
		}
	})
	buf := make([]byte, 64<<10)
	for {
		n, err := c.Read(buf)
		if err != nil {
			return
		}
		if d := d.fleet.inPlaceOf(d); !d.reachable.Load() || d.hasFault(Mute) || d.hasFault(Refuses) || d.hasFault(Silent) {
			continue // what is sent into nowhere is gone
		}
		select {
		case asked <- slices.Clone(buf[:n]):
		default:
		}
	}
}

// listenUDP serves a sign on a port of its own.
func (f *Fleet) listenUDP(host string, port int, d *Device) (addr string, end func(), err error) {
	c, err := net.ListenPacket("udp", net.JoinHostPort(host, fmt.Sprint(port)))
	if err != nil {
		return "", nil, err
	}
	f.wg.Go(func() {
		buf := make([]byte, 64<<10)
		for {
			n, from, err := c.ReadFrom(buf)
			if err != nil {
				return
			}
			d := f.inPlaceOf(d)
			if !d.reachable.Load() || d.hasFault(Mute) || d.hasFault(Refuses) {
				continue
			}
			if out := d.answer(buf[:n]); out != nil {
				_, _ = c.WriteTo(out, from)
			}
		}
	})
	return c.LocalAddr().String(), func() { c.Close() }, nil
}
