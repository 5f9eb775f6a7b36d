package plan

import (
	"maps"
	"runtime"
	"slices"
	"sync"

	"metabasis/internal/core/fleet"
	"metabasis/internal/core/runbook"
	"metabasis/internal/core/scope"
)

// targets selects the devices in scope and renders their steps. Each device is worked out by
// itself, so that of many some are at once.
func (m *maker) targets(f *fleet.Fleet, p *Plan) (in []*Target) {
	for _, r := range f.Retired {
		p.LeftOut = append(p.LeftOut, LeftOut{Device: r.Name, Why: "retired: " + r.Why})
	}
	mates := mates(f)
	parts := m.shares(len(f.Devices))
	found := make([][]selected, len(parts))
	var all sync.WaitGroup
	for i, part := range parts {
		all.Go(func() {
			for _, d := range f.Devices[part.from:part.to] {
				found[i] = append(found[i], part.m.target(f, p, d, mates[d.Name]))
			}
		})
	}
	all.Wait()
	for i, part := range parts {
		m.join(part.m)
		for _, s := range found[i] {
			if s.target != nil {
				in = append(in, s.target)
			} else {
				p.LeftOut = append(p.LeftOut, s.out)
			}
		}
	}
	below(f, in)
	m.absentFiles()
	if len(in) == 0 && !m.lenient {
		m.fail(0, "the scope selects no device: %s", scope.Reasons(p.LeftOut))
	}
	return in
}

// below finds the devices that are reached through those in scope, in scope or not.
func below(f *fleet.Fleet, in []*Target) {
	of := map[string]*Target{}
	for _, t := range in {
		of[t.Device.Name] = t
	}
	for _, d := range f.Devices {
		if d.Upstream() == "" {
			continue
		}
		for _, name := range f.Above(d) {
			if t := of[name]; t != nil {
				t.Below = append(t.Below, d.Name)
			}
		}
	}
}

// selected is a device in scope, or why it is not.
type selected struct {
	target *Target
	out    LeftOut
}

// share is a part of the devices, and what works it out.
type share struct {
	m        *maker
	from, to int
}

// fewDevices are worked out one after the other: to share them costs more than it saves.
const fewDevices = 200

// shares parts so many devices among the processors. What is found on the shelf is looked for by
// one.
func (m *maker) shares(devices int) (out []share) {
	n := runtime.GOMAXPROCS(0)
	if devices < fewDevices || slices.ContainsFunc(m.rb.Steps, func(s runbook.Step) bool { return s.Restore != nil }) {
		n = 1
	}
	for i := range n {
		fork := *m
		fork.list, fork.absent, fork.refuses, fork.looks, fork.said = nil, nil, nil, nil, maps.Clone(m.said)
		out = append(out, share{&fork, devices * i / n, devices * (i + 1) / n})
	}
	return out
}

// join takes in what a share has found. What is the same for many is told once in the end.
func (m *maker) join(part *maker) {
	m.list = append(m.list, part.list...)
	m.looks = m.looks.Join(part.looks)
	maps.Copy(m.said, part.said)
	for text, names := range part.absent {
		if m.absent == nil {
			m.absent = map[*runbook.Text][]string{}
		}
		m.absent[text] = append(m.absent[text], names...)
	}
}

// target works out one device.
func (m *maker) target(f *fleet.Fleet, p *Plan, d fleet.Device, mate *fleet.Device) selected {
	env := m.rb.DeviceEnv(f.Fields(d), m.answers)
	if o := m.outOfScope(d, env); o.Why != "" {
		if m.part.Named(d.Name) {
			m.fail(0, "%s is chosen for tonight, and the runbook's scope leaves it out: %s", d.Name, o.Why)
		}
		return selected{out: LeftOut{Device: d.Name, Why: p.Mask(o.Why), Rule: p.Mask(o.Rule)}}
	}
	if !m.part.Has(d.Name) {
		return selected{out: LeftOut{Device: d.Name, Why: scope.NotChosen}}
	}
	past, o := m.pasts(d)
	if o.Why != "" {
		return selected{out: LeftOut{Device: d.Name, Why: o.Why, Rule: o.Rule, Open: o.Open}}
	}
	t := &Target{Device: d, Env: env, Traits: m.traits[d.Platform], Above: f.Above(d), Secrets: m.secrets}
	t.ClearText = t.Traits.clearText(d)
	t.Mate, t.Record = mate, m.records(t)
	for i, s := range m.rb.Steps {
		if step, ok := m.step(t, s, i+1); ok {
			step.Was = past[i]
			step.Alters = step.Changes() || step.Acts() || step.Kind == ConsoleStep
			t.Steps = append(t.Steps, step)
		}
	}
	m.together(t)
	m.savedByThen(t)
	if len(t.Steps) == 0 && !m.lenient {
		m.fail(0, "%s is in scope, but no step is for it", d.Name)
	}
	return selected{target: t}
}
