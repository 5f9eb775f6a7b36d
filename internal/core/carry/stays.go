package carry

import (
	"slices"
	"strings"

	"metabasis/internal/core/config"
)

// Stays works out what becomes of what the new device has now. Its own lines stay, such as
// its name, its logins, its keys and the way by which it is managed: own says why a line is
// one of those, "" where it is none. What a rule leaves behind of the old one stays on the
// new one, too. Where a rule of the mapping says what such a line becomes, the rule counts.
// Key is by what lines replace one another; fixed tells sections that are there by
// themselves.
//
// What the new device has and will not have any more is then in Loses, all of it.
func (c *Carried) Stays(
	m *Mapping,
	now config.Config,
	style config.Style,
	own func(path []string) (why string),
	key func(path []string) string,
	fixed func(line string) bool,
) {
	paths := walk(c.Config.Lines, nil)
	var stay [][]string
	for _, at := range walk(now.Lines, nil) {
		why := own(at)
		if _, left, is := m.line(at); why == "" && is {
			why = "of the old one such lines stay behind: " + left
		}
		if why == "" || slices.Contains(c.ruled, key(at)) {
			continue
		}
		c.Own = append(c.Own, Gap{strings.Join(at, " > "), why})
		stay = append(stay, at)
	}
	for _, at := range stay {
		paths = slices.DeleteFunc(paths, func(p []string) bool { return key(p) == key(at) || slices.Equal(p, at) })
	}
	paths = append(paths, stay...)
	c.Config = config.Of(paths, style)
	for _, path := range config.Compare(now, c.Config).Removed {
		if at := strings.Split(path, " > "); len(at) == 1 && fixed(at[0]) {
			continue
		}
		c.Loses = append(c.Loses, path)
	}
}
