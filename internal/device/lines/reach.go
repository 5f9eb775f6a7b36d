package lines

import (
	"context"

	"metabasis/internal/core/driver"
	"metabasis/internal/core/runbook"
)

// Reach implements [driver.Reacher].
func (s *Session) Reach(ctx context.Context, address string) (runbook.Reached, error) {
	r := s.p.Reach
	if r.Send == "" {
		said := "the profile of " + s.p.Platform + " does not say how it reaches an address"
		return runbook.Reached{}, &driver.Refused{Line: address, Said: said}
	}
	if err := (runbook.ReachAsk{To: address}).Check(); err != nil { // it may stand in a shell's line
		return runbook.Reached{}, &driver.Refused{Line: address, Said: err.Error()}
	}
	s.patience = r.Patience()
	defer func() { s.patience = 0 }()
	got, err := s.command(ctx, r.Command, map[string]string{"address": address})
	if err != nil {
		return runbook.Reached{}, err
	}
	out, err := r.Parse(got)
	if err != nil {
		return out, &driver.Unclear{Asked: s.Mask(fill(r.Send, map[string]string{"address": address})), Got: s.Mask(err.Error())}
	}
	return out, nil
}
