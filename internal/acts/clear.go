package acts

import (
	"context"
	"errors"
	"fmt"
	"path"
	"slices"
	"strings"
	"time"

	"metabasis/internal/core/driver"
	"metabasis/internal/core/fleet"
	"metabasis/internal/core/freight"
	"metabasis/internal/core/software"
	"metabasis/internal/device/lines"
	"metabasis/internal/device/profile"
)

// There is a file on a device.
type There struct {
	Path string `json:"path"`
	Size int64  `json:"size"` // in bytes
}

// Clearable is what may be cleared of a device, by the rules of its profile.
type Clearable struct {
	Device string  `json:"device"`
	Files  []There `json:"files,omitempty"`
	// Versions are installed, and are neither what it runs nor what it starts with next.
	Versions []string `json:"versions,omitempty"`
	Spared   []string `json:"spared,omitempty"` // files that fit a rule and stay all the same
	Error    string   `json:"error,omitempty"`
}

// Said is the same in a line.
func (c Clearable) Said() string {
	if c.Error != "" {
		return "not looked at: " + c.Error
	}
	var parts []string
	sum := int64(0)
	for _, f := range c.Files {
		sum += f.Size
		parts = append(parts, fmt.Sprintf("%s (%s)", f.Path, freight.Bytes(f.Size)))
	}
	for _, v := range c.Versions {
		parts = append(parts, "version "+v)
	}
	text := "nothing that may be cleared"
	if len(parts) > 0 {
		text = strings.Join(parts, ", ")
		if sum > 0 {
			text += "; " + freight.Bytes(sum) + " of files"
		}
	}
	if len(c.Spared) > 0 {
		text += "; stays, since that is needed: " + strings.Join(c.Spared, ", ")
	}
	return text
}

// Any tells whether anything may be cleared.
func (c Clearable) Any() bool { return len(c.Files)+len(c.Versions) > 0 }

// Cleared is what became of it.
type Cleared struct {
	Device string   `json:"device"`
	Gone   []string `json:"gone,omitempty"` // what was seen to be gone
	Error  string   `json:"error,omitempty"`
}

// Said is the same in a line.
func (c Cleared) Said() string {
	text := "nothing cleared"
	if len(c.Gone) > 0 {
		text = "cleared: " + strings.Join(c.Gone, ", ")
	}
	if c.Error != "" {
		text += "; NOT all: " + c.Error
	}
	return text
}

// Clearable finds what may be cleared of every device in scope. Versions tells whether installed software is
// looked at, too. Nothing is changed.
func (e *Evening) Clearable(ctx context.Context, versions bool, each func(Clearable)) []Clearable {
	began := time.Now()
	defer func() { e.did("clearable", began, ctx.Err(), "devices", len(e.Scope.Devices)) }()
	back, unread := e.goesBackTo(ctx)
	return sweep(ctx, e, each, func(ctx context.Context, d fleet.Device) Clearable {
		s, err := e.clears(ctx, d)
		if err != nil {
			return Clearable{Device: d.Name, Error: err.Error()}
		}
		defer func() { _ = s.Close() }()
		one, err := e.clearable(ctx, s, d, versions, back[d.Name])
		if err = errors.Join(unread, err); err != nil {
			return Clearable{Device: d.Name, Error: s.Mask(err.Error())}
		}
		return one
	}, func(d fleet.Device) Clearable { return Clearable{Device: d.Name, Error: notBegun} })
}

// clears opens a device on which files are cleared.
func (e *Evening) clears(ctx context.Context, d fleet.Device) (*lines.Session, error) {
	p := e.Profiles[d.Platform]
	switch {
	case p == nil || len(p.Files.Clear) == 0:
		return nil, fmt.Errorf("the profile of %s does not say what may be cleared: files: list, clear and remove", d.Platform)
	}
	if err := e.free(d); err != nil {
		return nil, err
	}
	s, err := e.Connector.Open(ctx, d, nil)
	if err != nil {
		return nil, e.unreached(err)
	}
	told, ok := s.(*lines.Session)
	if !ok {
		_ = s.Close()
		return nil, errors.New("files are cleared on a device that is worked over a terminal only")
	}
	return told, nil
}

// clearable looks at one device, which may be taken back to a version.
func (e *Evening) clearable(ctx context.Context, s *lines.Session, d fleet.Device, versions bool, back string) (out Clearable, err error) {
	p := e.Profiles[d.Platform]
	out.Device = d.Name
	var at software.State
	if p.Software.Install.Send != "" { // never what it runs or would start with
		if at, err = s.Software(ctx); err != nil {
			return out, fmt.Errorf("what it runs and starts with cannot be read: %w", err)
		}
	}
	files, err := listed(ctx, s, p)
	if err != nil {
		return out, err
	}
	for _, f := range files {
		switch {
		case !slices.ContainsFunc(p.Files.Clear, func(r profile.Pattern) bool { return r.Matches(f.Path) }):
		case e.needs(d, at, back, f.Path):
			out.Spared = append(out.Spared, f.Path)
		default:
			out.Files = append(out.Files, f)
		}
	}
	for _, v := range at.Has {
		switch {
		case !versions || p.Software.Drop.Send == "" || v == at.Runs || v == at.Next:
		case v == back:
			out.Spared = append(out.Spared, "version "+v+", which a night that was cut off would take it back to")
		default:
			out.Versions = append(out.Versions, v)
		}
	}
	return out, nil
}

// goesBackTo is the version that each device is taken back to by nights that were cut off and that nobody has
// seen to.
func (e *Evening) goesBackTo(ctx context.Context) (map[string]string, error) {
	out := map[string]string{}
	all, err := e.CutOff(ctx)
	if err != nil {
		return nil, fmt.Errorf("what nights that were cut off would take it back to cannot be read: %w", err)
	}
	for _, l := range all {
		p, err := e.Stands(ctx, l.ID)
		if err != nil || p == nil {
			return nil, errors.Join(err, fmt.Errorf("what night %d, which was cut off, would take it back to cannot be read", l.ID))
		}
		for _, d := range p.Night.Devices {
			if d.MayRun() && d.Ran != "" {
				out[d.Name] = d.Ran
			}
		}
	}
	return out, nil
}

// needs tells whether a file is the image of what the device runs, starts with next, or may be taken back to.
func (e *Evening) needs(d fleet.Device, at software.State, back, file string) bool {
	return slices.ContainsFunc(e.Images[d.Platform], func(i software.Image) bool {
		return (i.Version == at.Runs || i.Version == at.Next || i.Version == back) && i.Name() == path.Base(file)
	})
}

// listed are the files on a device.
func listed(ctx context.Context, s *lines.Session, p *profile.Profile) (out []There, err error) {
	v, err := s.Read(ctx, p.Files.List)
	if err != nil {
		return nil, fmt.Errorf("listing its files: %w", err)
	}
	rows, _ := v.([]map[string]any)
	for _, r := range rows {
		name, _ := r["path"].(string)
		size, _ := r["size"].(float64)
		if profile.PathSafe(name) == "" { // else it cannot be named to the device
			out = append(out, There{name, int64(size)})
		}
	}
	return out, nil
}

// Clear clears what was shown, and nothing that is another by now: each file is seen to be there with its size
// before, and to be gone after.
func (e *Evening) Clear(ctx context.Context, all []Clearable, each func(Cleared)) []Cleared {
	began := time.Now()
	defer func() { e.did("clear", began, ctx.Err(), "devices", len(all)) }()
	by := map[string]Clearable{}
	for _, c := range all {
		by[c.Device] = c
	}
	return sweep(ctx, e, each, func(ctx context.Context, d fleet.Device) Cleared {
		one := by[d.Name]
		if !one.Any() {
			return Cleared{Device: d.Name}
		}
		s, err := e.clears(ctx, d)
		if err != nil {
			return Cleared{Device: d.Name, Error: err.Error()}
		}
		defer func() { _ = s.Close() }()
		out := Cleared{Device: d.Name}
		if err := e.clear(ctx, s, d, one, &out); err != nil {
			out.Error = s.Mask(err.Error())
		}
		return out
	}, func(d fleet.Device) Cleared { return Cleared{Device: d.Name, Error: notBegun} })
}

// clear clears one device.
func (e *Evening) clear(ctx context.Context, s *lines.Session, d fleet.Device, shown Clearable, out *Cleared) error {
	p := e.Profiles[d.Platform]
	back, err := e.goesBackTo(ctx)
	if err != nil {
		return err
	}
	now, err := e.clearable(ctx, s, d, len(shown.Versions) > 0, back[d.Name])
	if err != nil {
		return err
	}
	for _, f := range shown.Files {
		if !slices.Contains(now.Files, f) {
			return fmt.Errorf("%s is not what was shown any more: look again", f.Path)
		}
		if _, err := s.Remove(ctx, f.Path); err != nil && !driver.Answered(err) {
			return err
		} else if err != nil {
			return fmt.Errorf("%s: %w", f.Path, err)
		}
	}
	for _, v := range shown.Versions {
		if !slices.Contains(now.Versions, v) {
			return fmt.Errorf("version %s is not what was shown any more: look again", v)
		}
		if err := s.DropVersion(ctx, v); err != nil {
			return fmt.Errorf("version %s: %w", v, err)
		}
	}
	left, err := listed(ctx, s, p)
	if err != nil {
		return err
	}
	still := []string{}
	for _, f := range shown.Files {
		if slices.ContainsFunc(left, func(l There) bool { return l.Path == f.Path }) {
			still = append(still, f.Path)
		} else {
			out.Gone = append(out.Gone, f.Path)
		}
	}
	if len(shown.Versions) > 0 {
		at, err := s.Software(ctx)
		if err != nil {
			return fmt.Errorf("reading its software: %w", err)
		}
		for _, v := range shown.Versions {
			if at.Installed(v) {
				still = append(still, "version "+v)
			} else {
				out.Gone = append(out.Gone, "version "+v)
			}
		}
	}
	if len(still) > 0 {
		return fmt.Errorf("it was told to remove %s, and still has it", strings.Join(still, ", "))
	}
	return nil
}
