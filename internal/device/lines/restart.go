package lines

import (
	"context"
	"fmt"
	"time"

	"metabasis/internal/core/driver"
)

// Restart implements [driver.Restarter].
func (s *Session) Restart(ctx context.Context) error {
	if s.p.Restart.Send == "" {
		return &driver.Refused{Line: "restart", Said: "the profile of " + s.p.Platform + " does not say how it is restarted"}
	}
	_, err := s.command(ctx, s.p.Restart.Command, nil)
	return err
}

// Up implements [driver.Restarter].
func (s *Session) Up(ctx context.Context) (time.Duration, error) {
	table, column := s.p.Restart.UpAt()
	got, err := s.Read(ctx, table)
	if err != nil {
		return 0, err
	}
	row, _ := got.(map[string]any)
	if n, ok := row[column].(float64); ok && n >= 0 {
		return time.Duration(n * float64(time.Second)), nil
	}
	return 0, &driver.Unclear{Asked: s.p.Restart.Up, Got: fmt.Sprint(row[column])}
}

// HandOver implements [driver.Paired].
func (s *Session) HandOver(ctx context.Context) error {
	if s.p.Pairs.HandOver.Send == "" {
		return &driver.Refused{Line: "hand over", Said: "the profile of " + s.p.Platform + " does not say how the work of a pair is handed over"}
	}
	_, err := s.command(ctx, s.p.Pairs.HandOver, nil)
	return err
}
