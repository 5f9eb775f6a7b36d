package runbook

// Section is a section of a runbook as it is written.
type Section struct {
	Name  string // such as "batches"
	Lines []string
}

// Sections takes a runbook apart, as it is written, without comments. The error is a
// problem.List: what cannot be parsed has no sections.
func Sections(file string, src []byte) (out []Section, err error) {
	if _, err := Parse(file, src); err != nil {
		return nil, err
	}
	root := scan(file, src, &problems{})
	for _, n := range root.children {
		s := Section{Name: n.words(&problems{})[0].text}
		var lines func(n *node)
		lines = func(n *node) {
			s.Lines = append(s.Lines, n.raw)
			for _, c := range n.children {
				lines(c)
			}
		}
		lines(n)
		out = append(out, s)
	}
	return out, nil
}
