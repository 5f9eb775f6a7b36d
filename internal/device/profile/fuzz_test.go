package profile

import "testing"

// No file makes the loader panic, and what it accepts can be used.
func FuzzLoad(f *testing.F) {
	f.Add([]byte(ternFile(f)))
	f.Add([]byte("platform: [\n"))
	f.Add([]byte("modes: {a: {prompt: '^x$', login: true}}\nrefused: ['(']\n"))
	f.Fuzz(func(t *testing.T, data []byte) {
		p, err := Load("x.yaml", data)
		if err == nil {
			p.Traits()
			p.Tables()
			p.Secrets()
			p.Mask("login crew secret x")
		}
	})
}
