package runbook

import (
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"github.com/expr-lang/expr/types"

	"metabasis/internal/core/problem"
)

// Loop repeats a step's lines: over a range, over a list of words and values, over the rows of
// a table or the values of a list that the fleet has, or over the rows of a table that is read
// from the device.
type Loop struct {
	Var       string
	From, To  int     // a range
	Low, High *Text   // its ends, where they are values; nil where they are numbers
	List      []*Text // in place of a range
	Number    bool    // the variable is a number
	Table     string  // in place of both: the table or list it goes through
	Reads     bool    // that is read from the device; else it is known before
	Where     *Cond   // of its rows, those of which it is true; nil means all
	Line      int
}

// Late tells whether the turns of the loop are known only once the device was read.
func (l *Loop) Late() bool { return l.Reads || l.Where != nil && l.Where.Late() }

// Bounds on the turns of a loop, so that a slip of the pen cannot send ten thousand lines.
const (
	maxLoop = 512
	// MaxRows bounds the rows of a table that a step goes through.
	MaxRows = 4096
)

// Values lists what the loop variable becomes, in order, where that is known before the device
// is read.
func (l *Loop) Values(env Env) ([]any, error) {
	switch {
	case l.Number:
		return l.numbers(env)
	case l.Table != "":
		return l.rows(env)
	}
	var out []any
	for _, t := range l.List {
		v, err := t.Render(env)
		if err != nil {
			return nil, err
		}
		out = append(out, v)
	}
	return out, nil
}

// numbers are those of a range. One that ends right before it begins is empty: a count of none.
func (l *Loop) numbers(env Env) (out []any, err error) {
	from, to := l.From, l.To
	if l.Low != nil {
		if from, err = l.Low.number(env); err != nil {
			return nil, err
		}
		if to, err = l.High.number(env); err != nil {
			return nil, err
		}
	}
	switch {
	case to < from-1:
		return nil, fmt.Errorf("the range %d..%d goes down: the lower number comes first", from, to)
	case to-from >= maxLoop:
		return nil, fmt.Errorf("a range of %d; the most is %d", to-from+1, maxLoop)
	}
	for n := from; n <= to; n++ {
		out = append(out, n)
	}
	return out, nil
}

// number is the whole number that a text becomes.
func (t *Text) number(env Env) (int, error) {
	s, err := t.Render(env)
	if err != nil {
		return 0, err
	}
	n, err := strconv.Atoi(s)
	if err != nil || n < 0 || n > 1<<30 {
		return 0, fmt.Errorf("an end of the range, %s, is %q, which is not a whole number", t.Source, s)
	}
	return n, nil
}

// Given are the rows or values that the fleet has of a device, before Where.
func (l *Loop) Given(env Env) (out []any) {
	switch rows := env[l.Table].(type) {
	case []any:
		return rows
	case []map[string]any:
		for _, r := range rows {
			out = append(out, r)
		}
	}
	return out
}

func (l *Loop) rows(env Env) (out []any, err error) {
	all := l.Given(env)
	if len(all) > MaxRows {
		return nil, fmt.Errorf("%s has %d rows; the most to go through is %d", l.Table, len(all), MaxRows)
	}
	for _, row := range all {
		if l.Where != nil {
			ok, err := l.Where.Eval(env.With(l.Var, row))
			if err != nil {
				return nil, err
			}
			if !ok {
				continue
			}
		}
		out = append(out, row)
	}
	return out, nil
}

// loop reads what stands behind for.
func (p *parser) loop(n *node, c *cursor) *Loop {
	l := &Loop{Line: n.n}
	v := c.next()
	l.Var = v.text
	if !validName.MatchString(l.Var) {
		p.at(n, v.col, "for n in 310..329", "%q cannot be the name of a value", l.Var)
	}
	c.want("in")
	if p.loopRange(n, c, l) {
		return l
	}
	at := wordOutsideQuotes(n.text+" ", " where ")
	if at >= 0 && at < c.offset() { // the table is missing before it, which is told
		return l
	}
	if at > 0 && !strings.ContainsAny(n.text[c.offset():at], `,"<`) {
		l.Table = c.next().text
		c.want("where")
		l.Where = p.cond(n, min(at+len(" where "), len(n.text)), len(n.text))
		return l
	}
	p.loopList(n, c.offset(), l)
	return l
}

// loopRange reads a range, such as 310..329 or <<first>>..<<last>>, where there is one.
func (p *parser) loopRange(n *node, c *cursor, l *Loop) bool {
	if !c.more() || c.peek().quoted {
		return false
	}
	at, raw := c.offset(), n.text[c.offset():]
	dots := outsideAngles(raw, "..")
	switch {
	case dots < 0 || strings.Contains(raw, `"`):
		return false
	case !strings.Contains(raw, "<<"):
		l.Number = true
		col := c.peek().col
		l.From, l.To, _ = c.span("310..329")
		if l.To-l.From >= maxLoop {
			p.at(n, col, "", "a range of %d; the most is %d", l.To-l.From+1, maxLoop)
			l.To = l.From
		}
		c.end()
		return true
	}
	l.Number = true
	end := func(from, to int) *Text {
		body := strings.TrimSpace(n.text[from:to])
		t := p.text(n, from+strings.Index(n.text[from:to], body), body)
		if _, err := strconv.Atoi(body); body == "" || t.literal() && err != nil ||
			!t.literal() && !(strings.HasPrefix(body, "<<") && strings.HasSuffix(body, ">>")) {
			p.at(n, n.col(from), "<<first>>..<<last>>, or 1..<<count>>", "%q is neither a number nor a value", body)
		}
		return t
	}
	l.Low, l.High = end(at, at+dots), end(at+dots+2, len(n.text))
	return true
}

// outsideAngles finds a text that stands between no angles; -1 where there is none.
func outsideAngles(s, sub string) int {
	depth := 0
	for i := range len(s) {
		switch {
		case strings.HasPrefix(s[i:], "<<"):
			depth++
		case strings.HasPrefix(s[i:], ">>"):
			depth--
		case depth == 0 && strings.HasPrefix(s[i:], sub):
			return i
		}
	}
	return -1
}

// wordOutsideQuotes finds the first place of a word; -1 where there is none.
func wordOutsideQuotes(s, word string) int {
	i := 0
	for n, part := range splitQuotes(s) {
		if at := strings.Index(part, word); n%2 == 0 && at >= 0 {
			return i + at
		}
		i += len(part)
	}
	return -1
}

// loopList reads what a loop goes through: words, quoted texts and values in
// <<angles>> between commas.
func (p *parser) loopList(n *node, from int, l *Loop) {
	const hint = "red, green, or <<log_a>>, <<log_b>> for values"
	for from = min(from, len(n.text)); ; {
		end := itemEnd(n.text, from)
		raw := n.text[from:end]
		item := strings.TrimSpace(raw)
		at := from + len(raw) - len(strings.TrimLeft(raw, " \t"))
		switch {
		case item == "":
			p.at(n, n.col(at), hint, "expected a word")
		case item[0] == '"':
			body, close, _ := unquote(n.text, at)
			if close != at+len(item) {
				p.at(n, n.col(min(close, len(n.text))), hint, "%q cannot stand here", strings.TrimSpace(n.text[min(close, len(n.text)):end]))
			}
			t := p.text(n, at+1, body)
			t.quoted = true
			l.List = append(l.List, t)
		default:
			t := p.text(n, at, item)
			if t.literal() && strings.ContainsAny(item, " \t") {
				p.at(n, n.col(at), quote(item), "two words without a comma between them")
			}
			l.List = append(l.List, t)
		}
		if len(l.List) > maxLoop {
			p.at(n, n.col(at), "", "a list of more than %d", maxLoop)
			return
		}
		if end >= len(n.text) {
			return
		}
		from = end + 1
	}
}

// itemEnd finds the comma that ends an item of a list, outside of quotes and
// angles, or the end of the line.
func itemEnd(s string, i int) int {
	quoted, angles := false, 0
	for ; i < len(s); i++ {
		switch {
		case s[i] == '\\' && quoted:
			i++
		case s[i] == '"':
			quoted = !quoted
		case quoted:
		case strings.HasPrefix(s[i:], "<<"):
			angles++
			i++
		case strings.HasPrefix(s[i:], ">>") && angles > 0:
			angles--
			i++
		case s[i] == ',' && angles == 0:
			return i
		}
	}
	return len(s)
}

// looped adds the variable of a loop.
func (l *Loop) looped(env types.Map, s Schema) types.Map {
	if l == nil {
		return env
	}
	out := maps.Clone(env)
	switch {
	case l.Reads:
		out[l.Var] = rowType(s.Tables[l.Table])
	case l.Table != "" && s.Beside[l.Table] != nil:
		out[l.Var] = besideRow(s.Beside[l.Table])
	case l.Table != "" && s.list(l.Table):
		item := s.field(l.Table).Kind
		item.List = false
		out[l.Var] = kindType(item)
	case l.Table != "": // there is none: what it would have is not known
		out[l.Var] = types.Any
	case l.Number:
		out[l.Var] = types.Int
	default:
		out[l.Var] = types.String
	}
	return out
}

// list tells whether a column of the fleet holds lists.
func (s Schema) list(name string) bool {
	f := s.field(name)
	return f != nil && f.Kind.List
}

// loop checks what a loop goes through. A bare word that is the name of
// something is most likely meant as its value.
func (c *compiler) loop(l *Loop, fields, full types.Map) {
	if _, taken := full[l.Var]; taken {
		c.fail(span{line: l.Line, col: 0}, "another name", "%s is already the name of something else", l.Var)
	}
	for _, end := range []*Text{l.Low, l.High} {
		if end != nil {
			c.text(end, fields)
		}
	}
	l.overTable(c.schema, full)
	if l.Table != "" {
		c.tableLoop(l, full)
		return
	}
	for _, t := range l.List {
		c.text(t, fields)
		word := strings.TrimSpace(t.Source)
		if _, named := full[word]; !named || t.quoted || !t.literal() {
			continue
		}
		_, table := c.schema.Tables[word]
		if table || c.schema.Beside[word] != nil || c.schema.list(word) {
			c.fail(
				t.at,
				quote(word)+", if the word itself is meant; or for "+l.Var+" in "+word+" alone",
				"%s is a table or a list: a loop goes through it, or over a list of words",
				word,
			)
			continue
		}
		c.fail(t.at, "<<"+word+">> for its value, or "+quote(word)+" for the word itself"+c.ifList(word), "%s is the name of a value", word)
	}
}

// ifList says how a column of texts becomes one of lists.
func (c *compiler) ifList(word string) string {
	if f := c.schema.field(word); f != nil {
		return "; where it holds several values, say so in the head of its file: " + word + ": list of text"
	}
	return ""
}

// overTable makes of a list of one word that is the name of a table, or of a list of the fleet,
// a loop over that. A list of one word that is meant as such has it in quotes.
func (l *Loop) overTable(s Schema, full types.Map) {
	if len(l.List) == 1 && !l.List[0].quoted && l.List[0].literal() {
		word := strings.TrimSpace(l.List[0].Source)
		_, read := s.Tables[word]
		_, value := full[word]
		if read || s.Beside[word] != nil || s.list(word) || !value { // a name of nothing is told as a table that is missing
			l.Table, l.List = word, nil
		}
	}
	_, read := s.Tables[l.Table]
	l.Reads = read && s.Beside[l.Table] == nil
}

func (c *compiler) tableLoop(l *Loop, full types.Map) {
	t, read := c.schema.Tables[l.Table]
	switch {
	case c.schema.Beside[l.Table] == nil && !c.schema.list(l.Table) && !read:
		c.fail(
			span{line: l.Line, col: 0},
			strings.TrimPrefix(problem.OneOf(l.Table, c.tableNames())+", or "+quote(l.Table)+" for the word itself", ", or "),
			"there is no table %q: neither beside the fleet, nor does a profile read one",
			l.Table,
		)
		return
	case l.Reads && !t.Many:
		c.fail(span{line: l.Line, col: 0}, "a table of many rows", "%s has one row: there is nothing to go through", l.Table)
		return
	}
	if l.Where != nil {
		c.cond(l.Where, l.looped(full, c.schema), "")
	}
}

// tableNames are all that a loop can go through.
func (c *compiler) tableNames() (out []string) {
	out = slices.AppendSeq(slices.Collect(maps.Keys(c.schema.Tables)), maps.Keys(c.schema.Beside))
	for _, f := range c.schema.Fields {
		if f.Kind.List {
			out = append(out, f.Name)
		}
	}
	slices.Sort(out)
	return out
}
