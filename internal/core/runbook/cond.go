package runbook

import (
	"cmp"
	"errors"
	"fmt"
	"reflect"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"unicode"
	"unicode/utf8"

	"github.com/expr-lang/expr"
	"github.com/expr-lang/expr/ast"
	"github.com/expr-lang/expr/file"
	exprparser "github.com/expr-lang/expr/parser"
	"github.com/expr-lang/expr/types"
	"github.com/expr-lang/expr/vm"

	"metabasis/internal/core/config"
)

// Env holds the values a condition is evaluated over: device fields, asked
// values, loop variables, tables read from the device, and under "config" a
// config.Config when the condition asks for it.
type Env map[string]any

// span is a piece of a line of the source.
type span struct {
	line int
	col  int // of its first rune, from 1
	// Where it is not of the runbook itself: the file, and the whole line.
	file, raw string
}

func (s span) String() string {
	if s.file != "" {
		return fmt.Sprintf("%s line %d", s.file, s.line)
	}
	return fmt.Sprintf("line %d", s.line)
}

// Cond is a condition. It must be compiled before it can be evaluated.
type Cond struct {
	Source string
	at     span
	prog   *vm.Program
	names  []string // the names it uses
	late   bool
	told   []string // tables that a scope looks at as they were last read
	means  string   // what stands for it: a selection's condition; "" is what is written
	parts  []part   // its comparisons, for explaining
}

// part is one of the conditions joined by "and".
type part struct {
	source      string
	whole       *vm.Program
	left, right *vm.Program
	leftSource  string
	op          string
	rows        *overRows // where it is asked of the rows of a table
	reaches     bool      // it asks whether an address answers
}

func (p *parser) cond(n *node, from, to int) *Cond {
	raw := n.text[min(from, to):to]
	trimmed := strings.TrimSpace(raw)
	c := &Cond{Source: trimmed, at: span{line: n.n, col: n.col(from + strings.Index(raw, trimmed))}}
	if trimmed == "" {
		p.at(n, n.col(len(n.text)), `a condition such as site == "ALD"`, "a condition is missing")
	}
	return c
}

// Names lists what the condition looks at, "config" included.
func (c *Cond) Names() []string { return c.names }

// Selection is the name of the selection that the condition is; "" where it is none.
func (c *Cond) Selection() string {
	name, is := strings.CutPrefix(c.Source, "@")
	if !is {
		return ""
	}
	return name
}

// text is the condition itself, where a selection's name stands for it.
func (c *Cond) text() string { return cmp.Or(c.means, c.Source) }

// Late tells whether it looks at what is read from the device, so that it cannot be settled
// before.
func (c *Cond) Late() bool { return c.late }

// Eval evaluates the condition. The error says what could not be evaluated; it is
// a [NotKnown] where the device did not tell what the condition looks at.
func (c *Cond) Eval(env Env) (bool, error) {
	if c.prog == nil {
		return false, fmt.Errorf("condition %q was never compiled", c.Source)
	}
	v, err := expr.Run(c.prog, env.withHas())
	if column, inFleet := missingFrom(err); column != "" {
		return false, &NotKnown{c.Source, column, inFleet}
	}
	var not *NotReached
	if errors.As(err, &not) {
		return false, not
	}
	if err != nil {
		return false, fmt.Errorf("condition %q: %s", c.Source, firstLine(err))
	}
	return v.(bool), nil
}

// failing finds the first part that does not hold.
func (c *Cond) failing(vals map[string]any) (part, bool) {
	for _, p := range c.parts {
		if v, err := expr.Run(p.whole, vals); err != nil || v != true {
			return p, true
		}
	}
	return part{}, false
}

// Explain says in a few words why the condition does not hold, as wanted and
// got. It is "" when the condition holds.
func (c *Cond) Explain(env Env) string {
	vals := env.withHas()
	p, found := c.failing(vals)
	switch {
	case !found:
		return ""
	case p.left == nil && env.explainSame(p.source) != "":
		return env.explainSame(p.source)
	}
	return p.explain(vals)
}

// explain says why the part does not hold.
func (p part) explain(vals map[string]any) string {
	if why := p.explainReached(vals); why != "" {
		return why
	}
	if p.rows != nil {
		if _, err := expr.Run(p.whole, vals); missingIn(err) == "" {
			if text := p.rows.explain(vals); text != "" {
				return text
			}
		}
	}
	if p.left == nil {
		if _, err := expr.Run(p.whole, vals); missingIn(err) != "" {
			return "cannot be told: " + p.source + ": " + missingIn(err) + " is missing"
		}
		return notSo(p.source)
	}
	l, err1 := expr.Run(p.left, vals)
	r, err2 := expr.Run(p.right, vals)
	if err1 != nil || err2 != nil {
		if column := missingIn(errors.Join(err1, err2)); column != "" {
			return "cannot be told: " + p.source + ": " + column + " is missing"
		}
		return "cannot be told: " + p.source
	}
	if p.op == "in" {
		return fmt.Sprintf("%s %s is none of %s", p.leftSource, shown(l), among(r))
	}
	want := fmt.Sprint(r)
	if p.op != "==" {
		want = p.op + " " + want
	}
	return fmt.Sprintf("%s is %s, wanted %s", p.leftSource, shown(l), want)
}

// Rule says which part of the condition does not hold, without the value that was
// found, so that many can be told together: "site is not ALD".
func (c *Cond) Rule(env Env) string {
	vals := env.withHas()
	p, found := c.failing(vals)
	switch {
	case !found:
		return ""
	case p.left == nil:
		return notSo(p.source)
	}
	r, err := expr.Run(p.right, vals)
	switch {
	case err != nil:
		return p.source + " cannot be told"
	case p.op == "==":
		return fmt.Sprintf("%s is not %s", p.leftSource, shown(r))
	case p.op == "in":
		return fmt.Sprintf("%s is none of %s", p.leftSource, among(r))
	case p.op == "!=":
		return fmt.Sprintf("%s is %s", p.leftSource, shown(r))
	}
	return fmt.Sprintf("%s is not %s %v", p.leftSource, p.op, r)
}

// among are the values of a list, or of a range.
func among(v any) string {
	rv := reflect.ValueOf(v)
	if rv.Kind() != reflect.Slice && rv.Kind() != reflect.Array {
		return fmt.Sprint(v)
	}
	var out []string
	for i := range rv.Len() {
		if i == mostAmong {
			out = append(out, fmt.Sprintf("and %d more", rv.Len()-i))
			break
		}
		out = append(out, fmt.Sprint(rv.Index(i).Interface()))
	}
	return strings.Join(out, ", ")
}

// mostAmong is how many values of a list are told.
const mostAmong = 12

func notSo(source string) string {
	if other, negated := strings.CutPrefix(source, "not "); negated {
		return other + " is so"
	}
	return source + " is not so"
}

func shown(v any) string {
	if s := fmt.Sprint(v); s != "" {
		return s
	}
	return "empty"
}

func (e Env) withHas() map[string]any {
	out := make(map[string]any, len(e)+1)
	for k, v := range e {
		out[k] = v
	}
	cfg, _ := e["config"].(config.Config)
	out[hasName] = func(q string) bool { return cfg.Has(q) }
	out[sameName] = e.sameFunc()
	out[readName] = e.readFunc()
	out[reachesName] = e.reachesFunc(out)
	return out
}

func firstLine(err error) string {
	s, _, _ := strings.Cut(err.Error(), "\n")
	return s
}

// escapedAngles is how a text says that it means the angles themselves.
const escapedAngles = `\<<`

// keptAngles stand for them while values are filled in.
const keptAngles = "\x00"

// hasName is what "config has" becomes inside an expression.
const hasName = "config_has"

var hasForm = regexp.MustCompile(`\bconfig\s+(has|lacks)\s+("(?:[^"\\]|\\.)*")`)

// rewrite turns our own form, config has "line with <<value>>", into a call.
// back maps a byte offset of the result to one of the source.
func rewrite(source string) (out string, back func(int) int) {
	type move struct{ out, src int }
	var b strings.Builder
	moves := []move{{0, 0}}
	last := 0
	for _, f := range forms(source) {
		b.WriteString(source[last:f.from])
		moves = append(moves, move{b.Len(), f.from})
		b.WriteString(f.text)
		last = f.to
		moves = append(moves, move{b.Len(), last})
	}
	b.WriteString(source[last:])
	return b.String(), func(at int) int {
		i := len(moves) - 1
		for i > 0 && moves[i].out > at {
			i--
		}
		if i%2 == 1 { // inside a rewritten form: point at its start
			return moves[i].src
		}
		return moves[i].src + at - moves[i].out
	}
}

// interpolated turns "a <<b>> c" into "a " + string(b) + " c".
func interpolated(quoted string) string {
	s := strings.ReplaceAll(quoted, escapedAngles, keptAngles)
	for {
		i := strings.Index(s, "<<")
		j := strings.Index(s, ">>")
		if i < 0 || j < i {
			return s
		}
		s = s[:i] + `" + string(` + s[i+2:j] + `) + "` + s[j+2:]
	}
}

// filled is interpolated, with the angles that a text means.
func filled(quoted string) string { return strings.ReplaceAll(interpolated(quoted), keptAngles, "<<") }

// Asks lists the lines of the configuration that the condition asks for, such as
// "port 7 > lan 310", as far as they can be told from the environment.
func (c *Cond) Asks(env Env) (out []string) {
	for _, m := range hasForm.FindAllStringSubmatch(c.Source, -1) {
		prog, err := expr.Compile(filled(m[2]), expr.Env(map[string]any(env)))
		if err != nil {
			continue
		}
		if v, err := expr.Run(prog, map[string]any(env)); err == nil {
			out = append(out, fmt.Sprint(v))
		}
	}
	return out
}

// Text is a line of device text with values in <<angles>>.
type Text struct {
	Source string
	at     span
	pieces []piece
	quoted bool   // it stood in quotes, so it is meant as it stands
	file   string // it stands for the lines of a file that has not been read yet
	whole  bool   // all of that file, with its empty lines
	each   *each  // its own text is the name of a file, another one for each device
	pasted bool   // it stood in a file, under want
}

// Whole tells whether the text is a line of a file that is put in place as a whole.
func (t *Text) Whole() bool { return t.whole }

// Pasted tells whether the text is a line of a file under want, which may be a device's own
// printout.
func (t *Text) Pasted() bool { return t.pasted }

// literal tells a text without values.
func (t *Text) literal() bool {
	return !slices.ContainsFunc(t.pieces, func(p piece) bool { return p.source != "" })
}

// piece is literal text, or an expression.
type piece struct {
	literal string
	source  string
	at      span
	prog    *vm.Program
	names   []string // it looks at, once it was compiled
}

func (p *parser) text(n *node, at int, body string) *Text {
	t := &Text{Source: body, at: span{line: n.n, col: n.col(at)}}
	for rest, off := body, at; rest != ""; {
		i := strings.Index(rest, "<<")
		if i < 0 {
			t.pieces = append(t.pieces, piece{literal: rest})
			break
		}
		if i > 0 && rest[i-1] == '\\' { // \<< stands for the angles themselves
			t.pieces = append(t.pieces, piece{literal: rest[:i-1] + "<<"})
			rest, off = rest[i+2:], off+i+2
			continue
		}
		if i > 0 {
			t.pieces = append(t.pieces, piece{literal: rest[:i]})
		}
		j := strings.Index(rest[i:], ">>")
		if j < 0 {
			p.at(n, n.col(off+i), "<<value>>", "these angles are not closed")
			break
		}
		inner := rest[i+2 : i+j]
		source := strings.TrimSpace(inner)
		if source == "" {
			p.at(n, n.col(off+i), "<<value>>", "there is no value between these angles")
		}
		t.pieces = append(t.pieces, piece{source: source, at: span{line: n.n, col: n.col(off + i + 2 + strings.Index(inner, source))}})
		rest, off = rest[i+j+2:], off+i+j+2
	}
	return t
}

// Render fills in the values. A value with a control character is refused: it
// could smuggle in a second line.
func (t *Text) Render(env Env) (string, error) {
	if t.file != "" {
		return "", fmt.Errorf("the file %s was never read", t.file)
	}
	var b strings.Builder
	for _, p := range t.pieces {
		if p.source == "" {
			b.WriteString(p.literal)
			continue
		}
		if p.prog == nil {
			return "", fmt.Errorf("line %q was never compiled", t.Source)
		}
		v, err := expr.Run(p.prog, map[string]any(env))
		if err != nil && missingIn(err) == "" {
			return "", fmt.Errorf("%s: value %s: %s", t.at, p.source, firstLine(err))
		}
		s := inLine(v)
		if v == nil || s == "" {
			return "", fmt.Errorf("%s: value %s is empty", t.at, p.source)
		}
		if strings.ContainsFunc(s, isControl) {
			return "", fmt.Errorf("%s: value %s has a control character", t.at, p.source)
		}
		if strings.Contains(s, "<<") {
			return "", fmt.Errorf(
				"%s: value %s is %q, which looks as if a value were not filled in; for the angles themselves write %s in the line",
				t.at,
				p.source,
				s,
				escapedAngles,
			)
		}
		b.WriteString(s)
	}
	return b.String(), nil
}

// inLine is a value as it stands in a line: numbers without an exponent, yes and no.
func inLine(v any) string {
	switch v := v.(type) {
	case float64:
		return strconv.FormatFloat(v, 'f', -1, 64)
	case bool:
		if v {
			return "yes"
		}
		return "no"
	}
	return fmt.Sprint(v)
}

func isControl(r rune) bool { return unicode.IsControl(r) || r == utf8.RuneError }

// compileExpr compiles source against the environment. The error carries the
// byte offset it is about.
func compileExpr(source string, env any, wantBool bool) (*vm.Program, int, error) {
	opts := append(known(), expr.Env(env))
	if wantBool {
		opts = append(opts, expr.AsBool())
	}
	prog, err := expr.Compile(source, opts...)
	if err == nil { // what is wrong with a condition is told before it is patched
		prog, err = expr.Compile(source, append(opts, expr.Patch(reachedValues{}))...)
	}
	if err == nil {
		return prog, 0, nil
	}
	var fe *file.Error
	if errors.As(err, &fe) {
		return nil, fe.From, errors.New(plainly(fe.Message))
	}
	return nil, 0, errors.New(firstLine(err))
}

// plainly says what is wrong with a condition without the words of who made the parser.
func plainly(message string) string {
	if message == "unexpected token EOF" {
		return "the condition ends too early"
	}
	if m := regexp.MustCompile(`^unexpected token \w+\((".*")\)$`).FindStringSubmatch(message); m != nil {
		return m[1] + " is not expected here"
	}
	return message
}

// namesIn lists the identifiers of an expression, sorted.
func namesIn(source string) []string {
	tree, err := exprparser.Parse(source)
	if err != nil {
		return nil
	}
	v := nameVisitor{}
	ast.Walk(&tree.Node, v)
	names := make([]string, 0, len(v))
	for n := range v {
		switch n {
		case hasName:
			n = "config"
		case sameName, readName, reachesName:
			continue
		}
		names = append(names, n)
	}
	slices.Sort(names)
	return names
}

type nameVisitor map[string]bool

func (v nameVisitor) Visit(n *ast.Node) {
	if id, ok := (*n).(*ast.IdentifierNode); ok {
		v[id.Value] = true
	}
}

// split takes a condition apart at its top-level "and", so that the part which
// fails can be named.
func split(source string, env types.Map, of elements) []part {
	tree, err := exprparser.Parse(source)
	if err != nil {
		return nil
	}
	var parts []part
	var walk func(n ast.Node)
	walk = func(n ast.Node) {
		b, ok := n.(*ast.BinaryNode)
		if ok && (b.Operator == "and" || b.Operator == "&&") {
			walk(b.Left)
			walk(b.Right)
			return
		}
		p := part{source: written(n.String()), reaches: strings.Contains(n.String(), reachesName)}
		p.whole, _, _ = compileExpr(n.String(), env, true)
		if ok && slices.Contains([]string{"==", "!=", "<", "<=", ">", ">=", "in"}, b.Operator) {
			p.left, _, _ = compileExpr(b.Left.String(), env, false)
			p.right, _, _ = compileExpr(b.Right.String(), env, false)
			p.leftSource, p.op = written(b.Left.String()), b.Operator
			if p.right == nil {
				p.left = nil
			}
		}
		p.rows = rowsOf(n, env, of)
		if p.whole != nil {
			parts = append(parts, p)
		}
	}
	walk(tree.Node)
	return parts
}

// written puts our own form back into an expression, as people wrote it.
func written(source string) string {
	source = writtenReaches(writtenRead(writtenSame(source)))
	source = lacksCall.ReplaceAllString(source, "config lacks $1")
	source = hasCall.ReplaceAllString(source, "config has $1")
	return strings.ReplaceAll(source, hasName+"(", "config has (")
}

var (
	lacksCall = regexp.MustCompile(`\bnot ` + hasName + `\(("(?:[^"\\]|\\.)*")\)`)
	hasCall   = regexp.MustCompile(`\b` + hasName + `\(("(?:[^"\\]|\\.)*")\)`)
)

// Names lists what the values between its angles look at.
func (t *Text) Names() (out []string) {
	for _, p := range t.pieces {
		switch {
		case p.names != nil:
			out = append(out, p.names...)
		case p.source != "":
			out = append(out, namesIn(p.source)...)
		}
	}
	return out
}

// File is the file in which the text stands, where that is not the runbook.
func (t *Text) File() string { return t.at.file }

// Line is where the text stands in its file.
func (t *Text) Line() int { return t.at.line }
