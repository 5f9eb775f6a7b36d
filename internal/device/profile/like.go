package profile

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"sync"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"

	"metabasis/internal/core/problem"
	"metabasis/internal/core/textfile"
)

// Source is the text of a profile.
type Source struct {
	File string
	Data []byte
}

// Sources are the texts of the profiles at hand, so that one can be like another.
type Sources struct {
	Own     []Source // of the workspace; they come before the shipped ones
	Shipped []Source
}

// Set loads all of them, by platform.
func (s Sources) Set() (Set, error) {
	set, from := Set{}, map[string]string{}
	all := append(slices.Clone(s.Shipped), s.Own...)
	loaded, errs := make([]*Profile, len(all)), make([]error, len(all))
	var wg sync.WaitGroup // each takes some ten milliseconds, and a program that starts waits for all
	for i, src := range all {
		wg.Go(func() { loaded[i], errs[i] = s.Load(src) })
	}
	wg.Wait()
	for i, src := range all {
		p, err := loaded[i], errs[i]
		if i < len(s.Shipped) {
			if err != nil {
				return nil, fmt.Errorf("shipped profile: %w", err)
			}
			set[p.Platform] = p
			continue
		}
		if err != nil {
			return nil, err
		}
		if other := from[p.Platform]; other != "" {
			return nil, problem.List{
				{File: src.File, Msg: fmt.Sprintf("there is a profile of %s already, in %s", p.Platform, other), Hint: "another name behind platform:"},
			}
		}
		set[p.Platform], from[p.Platform] = p, src.File
	}
	return set, nil
}

// Load loads one profile. What it does not say is taken from the one it is like.
func (s Sources) Load(src Source) (*Profile, error) {
	chain, err := s.chain(src)
	if err != nil {
		return nil, err
	}
	if len(chain) == 1 {
		return Load(src.File, src.Data)
	}
	merged := yaml.MapSlice{}
	for _, link := range slices.Backward(chain) {
		if _, err := textfile.YAML(link.File, link.Data, &Profile{}, false); err != nil {
			return nil, err
		}
		var m yaml.MapSlice
		if err := yaml.UnmarshalWithOptions(link.Data, &m, yaml.UseOrderedMap()); err != nil {
			return nil, problem.List{problem.FromYAML(link.File, link.Data, err)}
		}
		merged = overlay(merged, m)
	}
	var text strings.Builder
	if err := writeFlow(&text, merged); err != nil {
		return nil, fmt.Errorf("%s: putting it together: %w", src.File, err)
	}
	return load(src.File, []byte(text.String()), chain)
}

// mostAlike bounds how many profiles can be like one another in a row.
const mostAlike = 8

// chain is a profile and those it is like, nearest first, decoded.
func (s Sources) chain(src Source) ([]Source, error) {
	var out []Source
	for {
		data, err := textfile.Decode(src.File, src.Data)
		if err != nil {
			return nil, err
		}
		src.Data = data
		out = append(out, src)
		if !mayBeLike.Match(data) {
			return out, nil
		}
		var head struct {
			Like string `yaml:"like"`
		}
		if _, err := textfile.YAML(src.File, data, &head, true); err != nil {
			return nil, err
		}
		if head.Like == "" {
			return out, nil
		}
		next, ok := s.of(head.Like, out)
		if !ok || len(out) >= mostAlike {
			return nil, problem.List{
				{File: src.File, Msg: fmt.Sprintf("like: there is no other profile of %q", head.Like), Hint: problem.OneOf(head.Like, s.platforms())},
			}
		}
		src = next
	}
}

// mayBeLike finds what may be the key like at the top of a profile.
var mayBeLike = regexp.MustCompile(`(?m)^\W*like\b`)

// of finds the profile of a platform that is none of those already taken.
func (s Sources) of(platform string, taken []Source) (Source, bool) {
	for _, src := range slices.Concat(s.Own, s.Shipped) {
		if platformOf(src) == platform &&
			!slices.ContainsFunc(taken, func(t Source) bool { return t.File == src.File || bytes.Equal(t.Data, src.Data) }) {
			return src, true
		}
	}
	return Source{}, false
}

func (s Sources) platforms() (out []string) {
	for _, src := range slices.Concat(s.Own, s.Shipped) {
		if p := platformOf(src); p != "" && !slices.Contains(out, p) {
			out = append(out, p)
		}
	}
	slices.Sort(out)
	return out
}

func platformOf(src Source) string {
	var head struct {
		Platform string `yaml:"platform"`
	}
	data, err := textfile.Decode(src.File, src.Data)
	if err == nil {
		_, err = textfile.YAML(src.File, data, &head, true)
	}
	if err != nil {
		return ""
	}
	return head.Platform
}

// overlay puts what one mapping says over another: mappings are put together, all
// else is replaced, and what is null is taken away.
func overlay(under, over yaml.MapSlice) yaml.MapSlice {
	out := slices.Clone(under)
	for _, item := range over {
		i := slices.IndexFunc(out, func(o yaml.MapItem) bool { return o.Key == item.Key })
		switch {
		case item.Value == nil && i >= 0:
			out = slices.Delete(out, i, i+1)
		case item.Value == nil:
		case i < 0:
			out = append(out, item)
		default:
			below, isMap := out[i].Value.(yaml.MapSlice)
			above, both := item.Value.(yaml.MapSlice)
			if isMap && both {
				item.Value = overlay(below, above)
			}
			out[i] = item
		}
	}
	return out
}

// writeFlow writes a value in the flow style of YAML, every text between quotes: so
// that it is read again as it is.
func writeFlow(b *strings.Builder, v any) error {
	switch x := v.(type) {
	case yaml.MapSlice:
		b.WriteString("{")
		for _, item := range x {
			if err := writeFlow(b, fmt.Sprint(item.Key)); err != nil {
				return err
			}
			b.WriteString(": ")
			if err := writeFlow(b, item.Value); err != nil {
				return err
			}
			b.WriteString(",\n")
		}
		b.WriteString("}")
	case []any:
		b.WriteString("[")
		for _, item := range x {
			if err := writeFlow(b, item); err != nil {
				return err
			}
			b.WriteString(",\n")
		}
		b.WriteString("]")
	default:
		var one bytes.Buffer
		e := json.NewEncoder(&one)
		e.SetEscapeHTML(false)
		if err := e.Encode(v); err != nil {
			return err
		}
		b.Write(bytes.TrimSpace(one.Bytes()))
	}
	return nil
}

// place finds where an entry stands: in the profile itself, or in one it is like.
func place(chain []Source, path string) (file string, n ast.Node, line string) {
	yp, err := yaml.PathString("$." + path)
	if err != nil {
		return "", nil, ""
	}
	for _, src := range chain {
		doc, err := textfile.Tree(src.File, src.Data)
		if err != nil {
			continue
		}
		n, err := yp.FilterFile(doc)
		if err == nil && n != nil && n.GetToken() != nil {
			return src.File, n, lineOf(src.Data, n.GetToken().Position.Line)
		}
	}
	return "", nil, ""
}

var errLike = errors.New("like: the profile that it is like is not at hand")
