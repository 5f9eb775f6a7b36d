package watch

import (
	"context"

	"metabasis/internal/core/night"
)

// fakeRun is a night that can be begun; what it is not given, it does at once.
type fakeRun struct {
	begin func(context.Context) error
	do    func(night.Command) error
	next  func(context.Context) ([]night.Event, bool)
}

func (f fakeRun) Begin(ctx context.Context) error {
	if f.begin == nil {
		return nil
	}
	return f.begin(ctx)
}

func (f fakeRun) Do(c night.Command) error {
	if f.do == nil {
		return nil
	}
	return f.do(c)
}

func (f fakeRun) Next(ctx context.Context) ([]night.Event, bool) {
	if f.next == nil {
		return nil, false
	}
	return f.next(ctx)
}

func (fakeRun) Notes() []string { return nil }

// fakePlan is a night that has not begun; what it is not given, it does not have.
type fakePlan struct {
	Plan
	rehearse func(context.Context, func(...night.Event)) error
	lines    []string
}

func (f fakePlan) Rehearse(ctx context.Context, each func(...night.Event)) error {
	return f.rehearse(ctx, each)
}
func (f fakePlan) Lines(string) []string          { return f.lines }
func (fakePlan) Rehearsed(context.Context) string { return "" }
func (fakePlan) Found(context.Context) []string   { return nil }

// fakeSaid is what was said with devices.
type fakeSaid struct {
	tail       func(device string, lines int) []string
	transcript func(device string) ([]string, error)
}

func (f fakeSaid) Tail(device string, lines int) []string {
	if f.tail == nil {
		return nil
	}
	return f.tail(device, lines)
}

func (f fakeSaid) Transcript(device string) ([]string, error) {
	if f.transcript == nil {
		return nil, nil
	}
	return f.transcript(device)
}

// of is an event of a device.
func of(device string, e night.Event) night.Event {
	e.Device = device
	return e
}
