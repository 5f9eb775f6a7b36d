package sim

import (
	"bufio"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"
	"time"
)

// A skerry speaks NETCONF (RFC 6241, 6242) and nothing else. What it runs is changed by a
// candidate, which is committed: to be confirmed within a time, or else what ran before runs
// again. What it starts with is another datastore, startup.
//
// It knows the capabilities candidate, confirmed-commit, validate and startup; the models
// ietf-system, ietf-interfaces and one of its own, skerry, which also tells how long a
// commit is still to be confirmed.

// skerry is one NETCONF session with a device.
type skerry struct {
	d       *Device
	in      *bufio.Reader
	out     io.Writer
	user    string
	number  int
	chunked bool
	over    bool
}

// trialOf is what a confirmed commit goes back to.
type trialOf struct {
	before  *ternConfig
	persist string
	by      *skerry
}

// skerryState is what a device keeps of NETCONF.
type skerryState struct {
	sessions  map[*skerry]bool
	numbers   int
	candidate *datum   // nil: as what runs; it need not be sound before it is committed
	edited    []string // the lines of edits in the candidate
	locks     map[string]*skerry
	trial     *trialOf
	requests  []string // where they are kept
}

// Requests are what the device was asked over NETCONF, where that is kept.
func (d *Device) Requests() []string {
	d.mu.Lock()
	defer d.mu.Unlock()
	return slices.Clone(d.netconf.requests)
}

// Locked tells whether the candidate of a skerry is locked, or stands edited.
func (d *Device) Locked() bool {
	d.mu.Lock()
	defer d.mu.Unlock()
	return len(d.netconf.locks) > 0 || d.netconf.candidate != nil
}

func (d *Device) serveNetconf(rw io.ReadWriter, user string) {
	s := &skerry{d: d, in: bufio.NewReader(rw), out: rw, user: user}
	d.mu.Lock()
	d.netconf.numbers++
	s.number = 100 + d.netconf.numbers
	d.netconf.sessions[s] = true
	d.mu.Unlock()
	defer s.end()
	if d.hasFault(NoPrompt) {
		_, _ = io.WriteString(rw, "starting up")
		_, _ = io.Copy(io.Discard, rw)
		return
	}
	if s.hello() != nil {
		return
	}
	for !s.over {
		msg, err := s.read()
		if err != nil {
			return
		}
		if s.d.fleet.scenario.Record {
			s.d.mu.Lock()
			s.d.netconf.requests = append(s.d.netconf.requests, msg)
			s.d.mu.Unlock()
		}
		s.rpc(msg)
	}
}

// end takes the session away, with its locks; what it edited is discarded.
func (s *skerry) end() {
	d := s.d
	d.mu.Lock()
	defer d.mu.Unlock()
	s.forget()
}

// forget is end; the caller holds d.mu.
func (s *skerry) forget() {
	n := s.d.netconf
	delete(n.sessions, s)
	for what, by := range n.locks {
		if by == s {
			delete(n.locks, what)
			if what == "candidate" {
				n.candidate, n.edited = nil, nil
			}
		}
	}
	s.over = true
}

const (
	capBase = "urn:ietf:params:netconf:base:1."
	capOf   = "urn:ietf:params:netconf:capability:"
)

func (s *skerry) hello() error {
	can := []string{capBase + "0", capOf + "candidate:1.0", capOf + "confirmed-commit:1.1", capOf + "validate:1.1", capOf + "startup:1.0",
		spaceSystem + "?module=ietf-system&amp;revision=2014-08-06", spaceSkerry + "?module=skerry&amp;revision=2026-11-01"}
	if s.d.spec.Writable {
		can = append(
			slices.DeleteFunc(can, func(c string) bool { return strings.Contains(c, "candidate") || strings.Contains(c, "confirmed") }),
			capOf+"writable-running:1.0",
			capOf+"rollback-on-error:1.0",
		)
	}
	old := s.d.hasFault(OldFraming)
	if !old {
		can = append(can, capBase+"1")
	}
	var b strings.Builder
	b.WriteString(`<?xml version="1.0" encoding="UTF-8"?>` + "\n" + `<hello xmlns="` + spaceNetconf + `"><capabilities>`)
	for _, c := range can {
		b.WriteString("<capability>" + c + "</capability>")
	}
	fmt.Fprintf(&b, "</capabilities><session-id>%d</session-id></hello>", s.number)
	if err := s.write(b.String()); err != nil {
		return err
	}
	msg, err := s.read()
	if err == nil {
		s.chunked = !old && strings.Contains(msg, capBase+"1<")
	}
	return err
}

const endOfMessage = "]]>]]>"

func (s *skerry) write(msg string) error {
	if s.chunked { // in two chunks, since it may be
		half := len(msg) / 2
		msg = fmt.Sprintf("\n#%d\n%s\n#%d\n%s\n##\n", half, msg[:half], len(msg)-half, msg[half:])
	} else {
		msg += endOfMessage
	}
	_, err := io.WriteString(s.out, msg)
	return err
}

func (s *skerry) read() (string, error) {
	var b strings.Builder
	if !s.chunked {
		for !strings.HasSuffix(b.String(), endOfMessage) {
			part, err := s.in.ReadString('>')
			if b.WriteString(part); err != nil {
				return "", err
			}
		}
		return strings.TrimSuffix(b.String(), endOfMessage), nil
	}
	for {
		head, err := s.in.ReadString('\n') // the line that ends what was before
		if err == nil && head == "\n" {
			head, err = s.in.ReadString('\n')
		}
		if err != nil {
			return "", err
		}
		if head == "##\n" {
			return b.String(), nil
		}
		n, err := strconv.Atoi(strings.TrimSuffix(strings.TrimPrefix(head, "#"), "\n"))
		if err != nil {
			return "", err
		}
		if _, err := io.CopyN(&b, s.in, int64(n)); err != nil {
			return "", err
		}
	}
}

// rpc answers one request.
func (s *skerry) rpc(msg string) {
	d := xml.NewDecoder(strings.NewReader(msg))
	var request *datum
	id := ""
	for {
		t, err := d.Token()
		if err != nil {
			_ = s.write(`<rpc-reply xmlns="` + spaceNetconf + `">` + errorXML(&wrong{"malformed-message", "", err.Error()}, 0) + "</rpc-reply>")
			s.over = true
			return
		}
		start, ok := t.(xml.StartElement)
		if !ok {
			continue
		}
		for _, a := range start.Attr {
			if a.Name.Local == "message-id" {
				id = a.Value
			}
		}
		if request, err = readData(d, start); err != nil || len(request.kids) != 1 {
			request = branch("", "", leaf("", "nothing", ""))
		}
		break
	}
	op := request.kids[0]
	line := s.told(op)
	st := s.d.strikes(line)
	time.Sleep(st.wait)
	if st.hang {
		_, _ = io.Copy(io.Discard, s.in)
		s.over = true
		return
	}
	if st.drop {
		s.over = true
		return
	}
	if st.restart {
		s.d.restart()
		s.over = true
		return
	}
	body, err := s.carryOut(op, line, st.balk)
	if s.d.hasFaultAt(Notifies) && s.d.hasFault(Notifies) {
		_ = s.write(
			`<notification xmlns="urn:ietf:params:xml:ns:netconf:notification:1.0"><eventTime>2026-11-26T02:00:00Z</eventTime><rpc-reply message-id="` + id + `"><ok/></rpc-reply></notification>`,
		)
	}
	if s.d.hasFaultAt(DropsAfter) && s.struck(DropsAfter, line) {
		s.over = true
		return
	}
	switch {
	case st.garbage:
		body = "<data><" + noise("x")[:20]
	case err != nil:
		body = errorXML(err, s.d.lockedBy(err))
	case body == "":
		body = "<ok/>"
	}
	_ = s.write(
		`<?xml version="1.0" encoding="UTF-8"?>` + "\n" + `<rpc-reply xmlns="` + spaceNetconf + `" message-id="` + id + `">` + body + "</rpc-reply>",
	)
}

func (s *skerry) struck(kind, line string) bool {
	s.d.mu.Lock()
	defer s.d.mu.Unlock()
	return s.d.fault(kind, line) != nil
}

// told is a request in words, for faults to match: commit, lock candidate, set PATH.
func (s *skerry) told(op *datum) string {
	switch op.name {
	case "lock", "unlock":
		if t := op.kid("target"); t != nil && len(t.kids) == 1 {
			return op.name + " " + t.kids[0].name
		}
	case "get-config":
		if t := op.kid("source"); t != nil && len(t.kids) == 1 {
			return op.name + " " + t.kids[0].name
		}
	case "get":
		if f := op.kid("filter"); f != nil {
			at, path := f, ""
			for len(at.kids) > 0 {
				at = at.kids[0]
				path += "/" + at.name
			}
			return "get " + path
		}
	case "edit-config":
		if c := op.kid("config"); c != nil {
			c.space = ""
			return strings.Join(c.edits(""), "; ")
		}
	case "commit":
		switch {
		case op.kid("confirmed") != nil && op.kid("persist-id") != nil:
			return "extend"
		case op.kid("confirmed") != nil:
			return "commit"
		}
		return "confirm"
	}
	return op.name
}

// edits are the lines of an edit.
func (n *datum) edits(at string) (out []string) {
	for _, k := range n.kids {
		path := n.step(k, at)
		switch {
		case k.op == "delete" || k.op == "remove":
			out = append(out, "delete "+path)
		case k.isEntry() && len(k.kids) < 2:
			out = append(out, "set "+path)
		case len(k.kids) == 0 && listKeys[n.name] != k.name:
			out = append(out, strings.TrimSuffix("set "+path+" = "+k.text, " = "))
		default:
			out = append(out, k.edits(path)...)
		}
	}
	return out
}

// lockedBy is the session to be named in an error. It is 0 for others.
func (d *Device) lockedBy(err error) int {
	var w *wrong
	if !errors.As(err, &w) || w.tag != "lock-denied" {
		return 0
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	for _, by := range d.netconf.locks {
		return by.number
	}
	return 0
}

func errorXML(err error, session int) string {
	var w *wrong
	if !errors.As(err, &w) {
		w = &wrong{"operation-failed", "", err.Error()}
	}
	var b strings.Builder
	b.WriteString("<rpc-error><error-type>application</error-type><error-tag>" + w.tag + "</error-tag><error-severity>error</error-severity>")
	if w.path != "" {
		b.WriteString("<error-path>")
		_ = xml.EscapeText(&b, []byte(w.path))
		b.WriteString("</error-path>")
	}
	b.WriteString(`<error-message xml:lang="en">`)
	_ = xml.EscapeText(&b, []byte(w.message))
	b.WriteString("</error-message>")
	if session > 0 {
		fmt.Fprintf(&b, "<error-info><session-id>%d</session-id></error-info>", session)
	}
	return b.String() + "</rpc-error>"
}

// carryOut does what is asked. The error is a *wrong.
func (s *skerry) carryOut(op *datum, line string, balks bool) (string, error) {
	if balks {
		return "", &wrong{"operation-failed", "", "a fault"}
	}
	if s.struck(Rejects, line) {
		s.d.mu.Lock()
		s.d.note(Rejected, line)
		s.d.mu.Unlock()
		return "", &wrong{"invalid-value", "/sk:core", "it does not want that"}
	}
	switch op.name {
	case "get":
		return s.get(op)
	case "get-config":
		return s.getConfig(op)
	case "edit-config":
		defer s.d.moved()
		return "", s.editConfig(op, line)
	case "copy-config":
		defer s.d.moved()
		return "", s.copyConfig(op)
	case "lock", "unlock":
		return "", s.lock(op)
	case "validate":
		return "", s.validate()
	case "discard-changes":
		s.d.mu.Lock()
		defer s.d.mu.Unlock()
		if by := s.d.netconf.locks["candidate"]; by != nil && by != s {
			return "", &wrong{"in-use", "", "the candidate is locked"}
		}
		s.d.netconf.candidate, s.d.netconf.edited = nil, nil
		return "", nil
	case "commit":
		defer s.d.moved()
		return "", s.commit(op)
	case "cancel-commit":
		defer s.d.moved()
		return "", s.cancel(op)
	case "kill-session":
		return "", s.kill(op)
	case "close-session":
		s.over = true
		return "", nil
	}
	return "", &wrong{"operation-not-supported", "", "there is no operation " + op.name}
}

// validate looks whether the candidate is sound.
func (s *skerry) validate() error {
	s.d.mu.Lock()
	defer s.d.mu.Unlock()
	if s.d.netconf.candidate == nil {
		return nil
	}
	_, err := fromData(s.d.netconf.candidate, len(s.d.running.ports))
	return err
}

func (s *skerry) kill(op *datum) error {
	d := s.d
	d.mu.Lock()
	defer d.mu.Unlock()
	for other := range d.netconf.sessions {
		if other != s && fmt.Sprint(other.number) == op.value("session-id") {
			other.forget()
			return nil
		}
	}
	return &wrong{"invalid-value", "", "there is no such session"}
}

// lock locks a datastore, or unlocks it (RFC 6241, section 7.5).
func (s *skerry) lock(op *datum) error {
	d := s.d
	d.mu.Lock()
	defer d.mu.Unlock()
	n := d.netconf
	target := op.kid("target")
	if target == nil || len(target.kids) != 1 {
		return &wrong{"missing-element", "", "there is no target"}
	}
	what := target.kids[0].name
	by := n.locks[what]
	switch {
	case op.name == "unlock" && by == s:
		delete(n.locks, what)
		if what == "candidate" {
			n.candidate, n.edited = nil, nil
		}
		return nil
	case op.name == "unlock":
		return &wrong{"operation-failed", "", "it is not locked by this session"}
	case by != nil, what == "candidate" && d.spec.Editing != "":
		return &wrong{"lock-denied", "", "it is locked"}
	case what == "candidate" && n.candidate != nil:
		return &wrong{"lock-denied", "", "it holds changes that were not committed"}
	case what == "running" && n.trial != nil:
		return &wrong{"in-use", "", "a commit is to be confirmed"}
	}
	n.locks[what] = s
	return nil
}

// store finds what is in a datastore; nil where there is none. The caller holds d.mu.
func (s *skerry) store(of *datum) (name string, root *datum) {
	if of == nil || len(of.kids) != 1 {
		return "", nil
	}
	switch name = of.kids[0].name; name {
	case "running":
		return name, s.d.running.data()
	case "startup":
		return name, s.d.saved.data()
	case "candidate":
		if c := s.d.netconf.candidate; c != nil {
			return name, c.clone()
		}
		return name, s.d.running.data()
	}
	return name, nil
}

func (s *skerry) getConfig(op *datum) (string, error) {
	s.d.mu.Lock()
	defer s.d.mu.Unlock()
	name, root := s.store(op.kid("source"))
	if root == nil {
		return "", &wrong{"invalid-value", "", "there is no such datastore"}
	}
	if f := op.kid("filter"); f != nil {
		root = root.filter(f)
	}
	if s.d.fault(CutShort, "get-config "+name) != nil {
		root.kids = root.kids[:len(root.kids)*2/3]
	}
	var b strings.Builder
	root.xml(&b)
	return "<data>" + b.String() + "</data>", nil
}

// get tells configuration and state.
func (s *skerry) get(op *datum) (string, error) {
	root := s.d.tree(true)
	if f := op.kid("filter"); f != nil {
		root = root.filter(f)
	}
	var b strings.Builder
	root.xml(&b)
	return "<data>" + b.String() + "</data>", nil
}

// tree is what the device tells: its configuration, and its state.
func (d *Device) tree(withState bool) *datum {
	others := d.neighbours()
	d.mu.Lock()
	defer d.mu.Unlock()
	now, source, settled := d.clock()
	root := d.running.data()
	if !withState {
		return root
	}
	state := branch(
		spaceSkerry,
		"state",
		branch(
			spaceSkerry,
			"clock",
			leaf(spaceSkerry, "now", now.UTC().Format(time.RFC3339)),
			leaf(spaceSkerry, "follows", source),
			leaf(spaceSkerry, "steady", fmt.Sprint(settled)),
		),
		branch(spaceSkerry, "storage", leaf(spaceSkerry, "free-mb", fmt.Sprint(d.spec.FreeMB)), leaf(spaceSkerry, "total-mb", "256")),
		branch(spaceSkerry, "unit", leaf(spaceSkerry, "version", d.spec.Version), leaf(spaceSkerry, "serial", d.spec.Serial)),
	)
	if d.spec.Editing != "" {
		state.add(
			branch(
				spaceSkerry,
				"editor",
				leaf(spaceSkerry, "user", d.spec.Editing),
				leaf(spaceSkerry, "since", time.Now().Add(-20*time.Minute).UTC().Format(time.RFC3339)),
			),
		)
	}
	d.note(Shown, "")
	if !d.due.IsZero() {
		state.add(leaf(spaceSkerry, "to-be-confirmed-within", fmt.Sprint(int(time.Until(d.due).Round(time.Second).Seconds()))))
	}
	for _, n := range others {
		state.add(
			branch(
				spaceSkerry,
				"neighbour",
				leaf(spaceSkerry, "port", fmt.Sprint(n.port)),
				leaf(spaceSkerry, "name", n.name),
				leaf(spaceSkerry, "their-port", fmt.Sprint(n.theirs)),
			),
		)
	}
	root.add(
		branch(spaceSystem, "system-state", branch(spaceSystem, "clock", leaf(spaceSystem, "current-datetime", now.UTC().Format(time.RFC3339)))),
		state,
	)
	return root
}

// editConfig edits the candidate.
func (s *skerry) editConfig(op *datum, line string) error {
	d := s.d
	d.mu.Lock()
	defer d.mu.Unlock()
	d.note(Staged, line)
	if err := s.editable(op); err != nil {
		return err
	}
	if d.fault(Ignores, line) != nil {
		return nil
	}
	_, root := s.store(op.kid("target"))
	usual := orElse(op.value("default-operation"), "merge")
	if usual == "replace" {
		root, usual = branch("", ""), "merge"
	}
	if err := root.merge(op.kid("config"), "", usual); err != nil {
		d.note(Rejected, line)
		return err
	}
	var w *wrong
	if _, err := fromData(root, len(d.running.ports)); errors.As(err, &w) && w.tag == "unknown-element" {
		d.note(Rejected, line)
		return err
	}
	if d.spec.Writable {
		return s.runs(root, strings.Split(line, "; "))
	}
	d.netconf.candidate, d.netconf.edited = root, append(d.netconf.edited, strings.Split(line, "; ")...)
	return nil
}

// runs lets what was edited run at once. The caller holds d.mu.
func (s *skerry) runs(root *datum, lines []string) error {
	d := s.d
	next, err := fromData(root, len(d.running.ports))
	if err != nil {
		return err
	}
	before := d.running.String()
	if d.running = next; next.String() != before {
		for _, l := range lines {
			d.note(Changed, l)
			if d.fault(CutsOff, l) != nil {
				d.cut = true
			}
		}
	}
	d.follow()
	return nil
}

// editable tells why the candidate cannot be edited. The caller holds d.mu.
func (s *skerry) editable(op *datum) error {
	name, _ := s.store(op.kid("target"))
	by := s.d.netconf.locks["candidate"]
	switch {
	case name != "candidate" && !s.d.spec.Writable, name != "running" && s.d.spec.Writable:
		return &wrong{"operation-not-supported", "", "that cannot be edited"}
	case by != nil && by != s, s.d.spec.Editing != "":
		return &wrong{"in-use", "", "the candidate is locked"}
	}
	return nil
}

// copyConfig copies running to startup, or a whole configuration into the candidate.
func (s *skerry) copyConfig(op *datum) error {
	d := s.d
	d.mu.Lock()
	defer d.mu.Unlock()
	target, _ := s.store(op.kid("target"))
	if target == "startup" {
		if d.fault(NoSave, "") != nil {
			return &wrong{"resource-denied", "", "the store cannot be written"}
		}
		if d.fault(QuietSave, "") == nil {
			d.saved = d.running.clone()
			d.note(Saved, "")
		}
		return nil
	}
	d.note(Staged, "")
	if err := s.editable(op); err != nil {
		return err
	}
	source := op.kid("source")
	if source == nil || source.kid("config") == nil || d.fault(Refusing, "") != nil {
		return &wrong{"resource-denied", "", "no memory for it"}
	}
	root := source.kid("config")
	if d.fault(HalfLoad, "") != nil {
		for _, k := range root.kids {
			if k.name == "core" {
				k.kids = k.kids[:len(k.kids)-1]
			}
		}
		root.kids = slices.DeleteFunc(root.kids, func(k *datum) bool { return k.name == "interfaces" })
	}
	if d.spec.Writable {
		return s.runs(root, []string{"a whole configuration"})
	}
	d.netconf.candidate, d.netconf.edited = root, []string{"a whole configuration"}
	return nil
}

// commit commits the candidate: for good, to be confirmed, or to confirm (RFC 6241, section
// 8.4).
func (s *skerry) commit(op *datum) error {
	d := s.d
	d.mu.Lock()
	defer d.mu.Unlock()
	n := d.netconf
	confirmed, persist, id := op.kid("confirmed") != nil, op.value("persist"), op.value("persist-id")
	seconds, err := strconv.Atoi(orElse(op.value("confirm-timeout"), "600"))
	by := n.locks["candidate"]
	switch {
	case err != nil || seconds < 1:
		return &wrong{"invalid-value", "", "it is not a time"}
	case by != nil && by != s, n.locks["running"] != nil && n.locks["running"] != s:
		return &wrong{"in-use", "", "a datastore is locked"}
	case id != "" && (n.trial == nil || n.trial.persist != id):
		return &wrong{"invalid-value", "", "no such commit is to be confirmed"}
	case id == "" && n.trial != nil && n.trial.persist != "":
		return &wrong{"in-use", "", "another commit is to be confirmed"}
	case n.candidate != nil && d.fault(RefusesApply, "") != nil:
		return &wrong{"operation-failed", "", "there is no room for it in the tables"}
	}
	before, next := d.running, d.running
	if n.candidate != nil {
		if next, err = fromData(n.candidate, len(before.ports)); err != nil {
			return err
		}
	}
	switch {
	case confirmed:
		if n.trial == nil {
			n.trial = &trialOf{before: before, persist: persist, by: s}
		}
		if d.fault(QuietTimer, "") == nil {
			d.arm(time.Duration(seconds) * time.Second)
		} else {
			n.trial = nil
		}
	case n.trial != nil:
		s.confirm()
	}
	if n.candidate == nil {
		return nil
	}
	if d.fault(QuietApply, "") != nil {
		n.candidate, n.edited = nil, nil
		return nil
	}
	edited := n.edited
	d.running, n.candidate, n.edited = next, nil, nil
	if d.running.String() != before.String() {
		for _, l := range edited {
			d.note(Changed, l)
			if d.fault(CutsOff, l) != nil {
				d.cut = true
			}
		}
	}
	d.follow()
	return nil
}

// confirm ends the trial, and what runs stays, or says so. The caller holds d.mu.
func (s *skerry) confirm() {
	d := s.d
	if d.fault(StuckTimer, "") != nil {
		return
	}
	if late := d.fault(LateDisarm, ""); late != nil {
		pending := d.timer
		time.AfterFunc(late.By, func() {
			d.mu.Lock()
			defer d.mu.Unlock()
			if d.timer == pending && !d.due.IsZero() {
				d.disarm()
			}
		})
		return
	}
	d.disarm()
}

// cancel takes back what is to be confirmed.
func (s *skerry) cancel(op *datum) error {
	d := s.d
	d.mu.Lock()
	defer d.mu.Unlock()
	switch t := d.netconf.trial; {
	case t == nil:
		return &wrong{"operation-failed", "", "nothing is to be confirmed"}
	case op.value("persist-id") != t.persist, t.persist == "" && t.by != s:
		return &wrong{"invalid-value", "", "that is not what is to be confirmed"}
	case d.fault(LostUndo, "") != nil:
		return nil
	}
	d.timer.Stop()
	d.putBack()
	return nil
}
