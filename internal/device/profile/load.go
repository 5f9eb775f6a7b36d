package profile

import (
	"cmp"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"
	"time"
	"unicode"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"

	"metabasis/internal/core/plan"
	"metabasis/internal/core/problem"
	"metabasis/internal/core/record"
	"metabasis/internal/core/runbook"
	"metabasis/internal/core/textfile"
)

// Load reads a profile that is like no other, and checks it. The error is a
// problem.List.
func Load(file string, data []byte) (*Profile, error) {
	data, err := textfile.Decode(file, data)
	if err != nil {
		return nil, err
	}
	return load(file, data, []Source{{file, data}})
}

// load reads the text of a profile and checks it. Chain is where its entries come
// from.
func load(file string, data []byte, chain []Source) (*Profile, error) {
	p := &Profile{}
	doc, err := textfile.YAML(file, data, p, false)
	if err != nil {
		return nil, err
	}
	if p.Like != "" && len(chain) == 1 {
		return nil, problem.List{{File: file, Msg: errLike.Error()}}
	}
	if p.Platform == "" && len(p.Modes) == 0 && len(p.Models.Modules)+len(p.Snmp.Objects) == 0 {
		return nil, problem.List{{File: file, Msg: "this is not a profile: it names no platform and no modes", Hint: "platform: NAME and modes:"}}
	}
	c := &checker{file: file, p: p, doc: doc, chain: chain}
	c.check()
	if err := c.list.Err(); err != nil {
		return nil, err
	}
	sum := sha256.New()
	for _, s := range chain {
		sum.Write(s.Data)
		sum.Write([]byte{0})
	}
	p.sum = hex.EncodeToString(sum.Sum(nil))
	return p, nil
}

type checker struct {
	file  string
	p     *Profile
	doc   *ast.File
	chain []Source
	list  problem.List
	top   map[string]bool // the keys at the top of the file, once they were asked for
}

// fail reports a problem at a path of the file such as "timer.arm.send", or at
// the nearest entry above it that exists.
func (c *checker) fail(path, hint, format string, args ...any) {
	pr := problem.Problem{File: c.file, Hint: hint, Msg: path + ": " + fmt.Sprintf(format, args...)}
	for at := path; at != ""; {
		if file, n, line := place(c.chain, at); n != nil {
			pr.File, pr.Text = file, line
			pr.Line, pr.Col = n.GetToken().Position.Line, n.GetToken().Position.Column
			break
		}
		i := strings.LastIndex(at, ".")
		at = at[:max(i, 0)]
	}
	c.list = append(c.list, pr)
}

// lineOf is a line of a text, counted from 1.
func lineOf(data []byte, n int) string {
	lines := strings.Split(string(data), "\n")
	if n < 1 || n > len(lines) {
		return ""
	}
	return lines[n-1]
}

// validPlatform is what a platform may be called: files and columns bear the name.
var validPlatform = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9._-]{0,62}$`)

func (c *checker) check() {
	p := c.p
	if p.Platform == "" {
		c.fail("platform", "platform: tern", "the profile names no platform")
	} else if !validPlatform.MatchString(p.Platform) {
		c.fail(
			"platform",
			"platform: tern",
			"%q cannot be the name of a platform: letters, digits, points, dashes and low lines; files are named after it",
			p.Platform,
		)
	}
	c.connect()
	if p.Connect.Prompt == 0 {
		p.Connect.Prompt = 15 * time.Second
	}
	if _, known := ProtocolOf(p.Connect.Protocol); known && !p.Typed() {
		c.modelled()
		return
	}
	for _, key := range append([]string{"models"}, protocolNames(func(p Protocol) bool { return !p.Typed })...) {
		if c.has(key) {
			c.fail(key, "protocol: netconf", "this is for platforms that are not worked over a terminal")
		}
	}
	c.modes()
	if text := p.Config.Text.Regexp; text != nil && text.SubexpIndex("end") < 0 {
		c.fail("configuration.text", `'^banner until (?P<end>\\S+)$'`, "the pattern has no group named end: which line ends the text cannot be told")
	}
	c.command("configuration.running", p.Config.Running, true)
	c.command("configuration.saved", p.Config.Saved, p.Timer.Kind.BringsBack())
	for i, also := range p.Config.Also {
		at := fmt.Sprintf("configuration.also[%d]", i)
		c.command(at, also.Command, true)
		if also.Name == "" || strings.ContainsFunc(also.Name, unicode.IsControl) {
			c.fail(at, "name: daemon", "the part has no name to show it by")
		}
	}
	if p.one() && (p.Save.Send != "" || p.Timer.Kind.BringsBack()) {
		c.fail(
			"configuration.saved",
			"the command that prints what it would start with",
			"it is the same command as running; where something must be saved, the two are not one, and nothing would tell them apart",
		)
	}
	c.command("pager.off", p.Pager.Off, false)
	c.command("save", p.Save, p.Timer.Kind.BringsBack())
	c.command("restore", p.Restore.Command, false)
	if p.Restore.Send != "" && (p.Restore.Ready.Regexp == nil || p.Restore.End == "") {
		c.fail("restore", "ready: and end:", "a restore needs to know what the device says when it is ready, and the line that ends the text")
	}
	c.wholes()
	if _, ok := p.Modes[p.Config.Edit]; !ok && !p.Config.Whole {
		c.fail("configuration.edit", problem.OneOf(p.Config.Edit, p.ModeOrder), "there is no mode %q", p.Config.Edit)
	}
	if layouts := []string{"indented", "braces", "flat"}; !slices.Contains(layouts, p.Config.Layout) {
		c.fail("configuration.layout", problem.OneOf(p.Config.Layout, layouts), "layout %q is not known", p.Config.Layout)
	}
	c.language()
	if len(p.Refused) == 0 {
		c.fail("refused", "the pattern of an error line", "without it a refused line would go unnoticed")
	}
	c.proofs()
	c.anything()
	c.timer()
	c.trial()
	if _, ok := p.Modes[p.Ask.In]; !ok && p.Ask.In != "" {
		c.fail("ask.in", problem.OneOf(p.Ask.In, p.ModeOrder), "there is no mode %q", p.Ask.In)
	}
	c.reach()
	c.restart()
	c.files()
	c.exchanges()
	c.handsOver()
	for _, name := range slices.Sorted(maps.Keys(p.Readers)) {
		c.reader("readers."+name, name)
	}
	c.identity()
}

func (c *checker) connect() {
	p := &c.p.Connect
	if _, known := ProtocolOf(p.Protocol); !known {
		c.fail(
			"connect.protocol",
			problem.OneOf(p.Protocol, protocolNames(func(Protocol) bool { return true })),
			"protocol %q is not known",
			p.Protocol,
		)
	}
	if p.Port == 0 {
		p.Port = UsualPort(p.Protocol)
	}
	if _, ok := Enters[p.Enter]; !ok {
		c.fail("connect.enter", problem.OneOf(p.Enter, []string{"lf", "cr", "crlf"}), "%q is not an end of line", p.Enter)
	}
	if p.Protocol == Telnet && len(p.Login) == 0 {
		c.fail(
			"connect",
			"login: with question: and send: <<user>> or secret: password",
			"Telnet has no login of its own: nothing says what the device asks for",
		)
	}
	if e := p.Echo; e != "" && e != EchoYes && e != EchoNo {
		c.fail("connect.echo", problem.OneOf(e, []string{EchoYes, EchoNo}), "%q does not say whether it echoes", e)
	}
	for i, a := range p.Login {
		if a.Question.Regexp == nil || (a.Send == "") == (a.Secret == "") {
			c.fail(
				fmt.Sprintf("connect.login[%d]", i),
				"question: and send: <<user>> or secret: password",
				"a part of the login needs its question, and a text or a secret",
			)
		}
	}
}

func (c *checker) modes() {
	p := c.p
	p.ModeOrder = slices.Sorted(maps.Keys(p.Modes))
	for _, name := range p.ModeOrder {
		m := p.Modes[name]
		path := "modes." + name
		if m.Prompt.Regexp == nil {
			c.fail(path, "prompt: and its pattern", "the mode has no prompt")
		} else if s := m.Prompt.String(); !strings.HasPrefix(s, "^") || !strings.HasSuffix(s, "$") {
			c.fail(path+".prompt", "^"+strings.Trim(s, "^$")+"$", "a prompt's pattern must fit the whole line, or output could pass for a prompt")
		}
		if m.Prompt.Regexp != nil && m.Prompt.SubexpIndex("host") < 0 {
			p.Bare = true
		}
		if m.Privileged {
			if p.Top != "" {
				c.fail(path+".privileged", "", "%s is the privileged mode already", p.Top)
			}
			p.Top = name
		}
		switch {
		case m.Login && p.Start != "":
			c.fail(path+".login", "", "a session cannot start in %s and in %s", p.Start, name)
		case m.Login:
			p.Start = name
		case m.From == "":
			c.fail(path, "from: and enter:", "nothing says how the mode is entered")
		default:
			if _, ok := p.Modes[m.From]; !ok {
				c.fail(path+".from", problem.OneOf(m.From, p.ModeOrder), "there is no mode %q", m.From)
			}
			if m.Enter.Send == "" || m.Leave.Send == "" {
				c.fail(path, "enter: and leave:", "nothing says how the mode is entered or left")
			}
			c.answers(path+".enter", m.Enter)
			c.answers(path+".leave", m.Leave)
		}
	}
	if p.Start == "" {
		c.fail("modes", "login: true in one of them", "nothing says in which mode a session starts")
	}
	for _, name := range p.ModeOrder { // every mode must lead back to the login mode
		at := name
		for range p.ModeOrder {
			if at == p.Start || at == "" {
				break
			}
			at = p.Modes[at].From
		}
		if at != p.Start && at != "" {
			c.fail("modes."+name+".from", "", "the modes go round in a circle")
		}
	}
}

// anyValue is what looks like a value to be filled in.
var anyValue = regexp.MustCompile(`<<[^<>]*>>`)

// filledIn are the values that commands are told.
var filledIn = map[string][]string{
	"timer.arm":        {"<<seconds>>", "<<at>>"},
	"trial.apply":      {"<<seconds>>"},
	"trial.extend":     {"<<seconds>>"},
	"reach":            {"<<address>>"},
	"files.sum":        {"<<path>>"},
	"files.fetch":      {"<<url>>", "<<host>>", "<<port>>", "<<file>>", "<<path>>"},
	"files.rename":     {"<<path>>", "<<to>>"},
	"files.remove":     {"<<path>>"},
	"software.install": {"<<path>>"},
	"software.next":    {"<<version>>"},
	"software.drop":    {"<<version>>"},
}

func (c *checker) command(path string, cmd Command, must bool) {
	if cmd.Send == "" {
		if must {
			c.fail(path, "in: and send:", "the command is missing")
		}
		return
	}
	left := cmd.Send
	for _, name := range filledIn[path] {
		left = strings.ReplaceAll(left, name, "")
	}
	if anyValue.MatchString(left) {
		c.fail(path+".send", "the command as it is typed", "a value in << >> is filled in nowhere here: it would be sent as it stands")
	}
	if _, ok := c.p.Modes[cmd.In]; !ok {
		c.fail(path+".in", problem.OneOf(cmd.In, c.p.ModeOrder), "there is no mode %q", cmd.In)
	}
	c.answers(path, cmd)
}

func (c *checker) answers(path string, cmd Command) {
	for i, a := range cmd.Answers {
		if a.Question.Regexp == nil || (a.Send == "") == (a.Secret == "") {
			c.fail(fmt.Sprintf("%s.answers[%d]", path, i), "question: and send: or secret:", "an answer needs its question, and a text or a secret")
		}
	}
}

func (c *checker) timer() {
	t := c.p.Timer
	switch t.Kind {
	case plan.NoTimer:
		return
	case plan.RestartTimer, plan.PutBackTimer:
	case plan.TrialTimer:
		if c.p.Trial.Apply.Send == "" {
			c.fail("timer.kind", "trial: with apply:, show:, confirm: and undo:", "nothing says how a change is applied on trial")
		}
		for _, key := range c.keys("timer") {
			if key != "kind" && key != "boot" {
				c.fail(
					"timer."+key,
					"trial: with apply:, show:, confirm: and undo:",
					"where the way back is a trial, what concerns it stands under trial",
				)
			}
		}
		return
	default:
		c.fail(
			"timer.kind",
			problem.OneOf(string(t.Kind), []string{"restart", "put back", "trial", "none"}),
			"timer kind %q is not known",
			t.Kind,
		)
		return
	}
	c.command("timer.arm", t.Arm, true)
	c.command("timer.show", t.Show, true)
	c.command("timer.disarm", t.Disarm, true)
	c.clocked()
	if t.At == "" && !strings.Contains(t.Arm.Send, "<<seconds>>") {
		c.fail("timer.arm.send", "restart in <<seconds>> s", "the delay <<seconds>> is missing")
	}
	c.pending("timer", t.Pending, t.None, "disarming")
	if t.Boot <= 0 {
		c.fail("timer.boot", "boot: 90s", "the time until it can be logged in to again, once the timer has fired, is missing")
	}
}

func (c *checker) trial() {
	t := c.p.Trial
	if t.Apply.Send == "" {
		return
	}
	c.command("trial.check", t.Check, false)
	c.command("trial.apply", t.Apply, true)
	c.command("trial.show", t.Show, true)
	c.command("trial.confirm", t.Confirm, true)
	c.command("trial.undo", t.Undo, true)
	c.command("trial.extend", t.Extend, false)
	c.command("trial.drop", t.Drop, false)
	if c.p.Timer.Kind != plan.TrialTimer {
		c.fail("trial", "timer: {kind: trial}", "it has a trial, and its timer is of another kind: the trial would never be used")
	}
	if t.Extend.Send != "" && !strings.Contains(t.Extend.Send, "<<seconds>>") {
		c.fail("trial.extend.send", "give it <<seconds>> s", "the time <<seconds>> is missing")
	}
	if !strings.Contains(t.Apply.Send, "<<seconds>>") {
		c.fail("trial.apply.send", "apply for <<seconds>> s", "the time <<seconds>> is missing")
	}
	c.pending("trial", t.Pending, t.None, "a confirmation")
}

// pending checks the patterns that tell whether something is on the clock.
func (c *checker) pending(path string, pending, none Pattern, proves string) {
	if pending.Regexp == nil || pending.SubexpIndex("seconds") < 0 && (path != "timer" || pending.SubexpIndex("at") < 0) {
		c.fail(path+".pending", "in (?P<seconds>\\d+) s", "the pattern needs a group named seconds")
	}
	if none.Regexp == nil {
		c.fail(path+".none", "what the device says when nothing is pending", "without it, %s cannot be proven", proves)
	}
}

var columnTypes = []string{"text", "number", "yes/no", "time"}

func (c *checker) reader(path, name string) {
	r := c.p.Readers[name]
	c.command(path, r.Command, true)
	r.order = c.keys(path + ".columns")
	c.p.Readers[name] = r
	if r.Row.Regexp == nil && (len(r.Skip) > 0 || r.Silent) {
		c.fail(path, "row: the pattern of a line that begins a row", "skip and silent are for tables of many rows")
	}
	for _, name := range slices.Sorted(maps.Keys(r.Columns)) {
		col := r.Columns[name]
		at := path + ".columns." + name
		c.columnType(at, col)
		inRow := r.groupOf(name) >= 0
		ownMatch := col.Match.Regexp != nil && col.Match.NumSubexp() >= 1
		switch {
		case inRow && ownMatch:
			c.fail(at, "", "the value stands in the row's pattern and in a pattern of its own; one is enough")
		case r.Row.Regexp != nil && !inRow && !ownMatch:
			c.fail(at, "(?P<"+name+">…) in row, or match: with a group", "the row's pattern has no group of that name")
		case r.Row.Regexp == nil && !ownMatch:
			c.fail(at, "match: with a group around the value", "nothing says where the value stands")
		}
	}
	if len(r.Columns) == 0 {
		c.fail(path, "columns:", "the table has no columns")
	}
}

func (c *checker) columnType(at string, col Column) {
	if !slices.Contains(columnTypes, string(col.Type)) {
		c.fail(at, problem.OneOf(string(col.Type), columnTypes), "type %q is not known", col.Type)
	}
	if col.Type == runbook.YesNoColumn && col.Yes == "" {
		c.fail(at, "yes: settled", "nothing says which text means yes")
	}
	if _, ok := units[col.Unit]; !ok {
		c.fail(at, "KB, MB, GB, KiB, MiB or GiB", "unit %q is not known", col.Unit)
	}
	if (col.Counter || col.Tolerance != "") && col.Type != runbook.NumberColumn {
		c.fail(at, "", "counter and tolerance are for numbers, and this is %s", col.Type)
	}
	if _, err := record.ParseTolerance(cmp.Or(col.Tolerance, "0")); err != nil {
		c.fail(at, "", "%v", err)
	}
	if col.Key && (col.Volatile || col.Counter || col.Tolerance != "") {
		c.fail(at, "", "a key tells rows apart: it neither changes by itself nor has a tolerance")
	}
}

// keys lists the keys of a table of the file, in its order.
func (c *checker) keys(path string) (out []string) {
	yp, err := yaml.PathString("$." + path)
	if err != nil {
		return nil
	}
	n, err := yp.FilterFile(c.doc)
	if err != nil {
		return nil
	}
	switch m := n.(type) {
	case *ast.MappingNode:
		for _, kv := range m.Values {
			out = append(out, kv.Key.GetToken().Value)
		}
	case *ast.MappingValueNode:
		out = append(out, m.Key.GetToken().Value)
	}
	return out
}

var units = map[string]float64{"": 1, "KB": 1e3, "MB": 1e6, "GB": 1e9, "KiB": 1 << 10, "MiB": 1 << 20, "GiB": 1 << 30}
