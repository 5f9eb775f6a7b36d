package screen

import (
	"slices"
	"strings"

	"charm.land/bubbles/v2/key"

	"metabasis/internal/screen/ink"
	"metabasis/internal/screen/keys"
)

// keyHelp lists all keys of a view.
type keyHelp struct {
	of   View
	top  int
	most int
}

func newHelp(of View) *keyHelp { return &keyHelp{of: of} }

func (h *keyHelp) Name() string { return "keys of " + h.of.Name() }

func (h *keyHelp) Keys() []Key {
	return []Key{
		On(keys.Up, "", func() { h.Wheel(-1) }), On(keys.Down, "", func() { h.Wheel(1) }),
		On(keys.PageUp, "", func() { h.Wheel(-10) }), On(keys.PageDown, "scroll", func() { h.Wheel(10) }),
		On(keys.First, "", func() { h.top = 0 }), On(keys.Last, "", func() { h.top = h.most }),
	}
}

// Click implements [Pointed].
func (h *keyHelp) Click(int, int) {}

// Wheel implements [Pointed].
func (h *keyHelp) Wheel(rows int) { h.top = min(max(h.top+rows, 0), h.most) }

func (h *keyHelp) Rows(f Frame) []ink.Row {
	rows := []ink.Row{
		ink.T(ink.Foam, " ").Strong(ink.Foam, "Keys").Add(ink.Dim, "  of "+h.of.Name()+"; a key means the same in every view"),
		{},
	}
	var all []ink.Row
	own := h.of.Keys()
	for _, g := range keys.All() {
		var part []ink.Row
		for _, b := range g.Keys {
			i := slices.IndexFunc(own, func(k Key) bool { return slices.Equal(k.Binding.Keys(), b.Keys()) })
			if i < 0 && g.Name != "Everywhere" {
				continue
			}
			does := ""
			if i >= 0 {
				does = own[i].Does
			}
			part = append(part, helpLine(b, does))
		}
		if len(part) > 0 {
			all = append(all, ink.T(ink.Foam, " ").Strong(ink.Foam, g.Name))
			all = append(append(all, part...), ink.Row{})
		}
	}
	all = append(all, ink.T(ink.Dim, "   A mouse wheel scrolls; a click chooses. Neither ever does more."))
	h.most = max(len(all)-(f.Height-len(rows)), 0)
	all, h.top = ink.Scroll(all, h.top, -1, f.Height-len(rows))
	return append(rows, all...)
}

func helpLine(b key.Binding, does string) ink.Row {
	r := ink.T(ink.Foam, "   ").Strong(ink.Foam, ink.Fit(b.Help().Key, 14)).Add(ink.Foam, b.Help().Desc)
	if does != "" && !strings.HasPrefix(b.Help().Desc, does) {
		r = r.Add(ink.Dim, "   here: "+does)
	}
	return r
}
