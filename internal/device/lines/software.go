package lines

import (
	"context"
	"fmt"

	"metabasis/internal/core/driver"
	"metabasis/internal/core/software"
	"metabasis/internal/device/profile"
)

// Software implements [driver.Upgrader].
func (s *Session) Software(ctx context.Context) (st software.State, err error) {
	got, err := s.Read(ctx, profile.Images)
	if err != nil {
		return st, err
	}
	rows, _ := got.([]map[string]any)
	unclear := func(format string, args ...any) (software.State, error) {
		return software.State{}, &driver.Unclear{Asked: s.p.Readers[profile.Images].Send, Got: fmt.Sprintf(format, args...)}
	}
	for _, row := range rows {
		version, ok := row["version"].(string)
		if !ok || !software.ValidVersion(version) {
			return unclear("%q is no version", fmt.Sprint(row["version"]))
		}
		st.Has = append(st.Has, version)
		if row["runs"] == true {
			if st.Runs != "" {
				return unclear("both %s and %s run", st.Runs, version)
			}
			st.Runs, st.Trial = version, row["trial"] == true
		}
		if row["next"] == true {
			if st.Next != "" {
				return unclear("both %s and %s start next", st.Next, version)
			}
			st.Next = version
		}
	}
	if st.Next == "" {
		return unclear("of %d images, none starts next", len(rows))
	}
	return st, nil
}

// Install implements [driver.Upgrader].
func (s *Session) Install(ctx context.Context, path string) error {
	if why := profile.PathSafe(path); why != "" {
		return &driver.Refused{Line: path, Said: why}
	}
	s.patience = s.p.Software.Takes
	defer func() { s.patience = 0 }()
	return s.exchange(ctx, s.p.Software.Install, map[string]string{"path": path})
}

// StartNext implements [driver.Upgrader].
func (s *Session) StartNext(ctx context.Context, version string) error {
	if !software.ValidVersion(version) {
		return &driver.Refused{Line: version, Said: "it is no version"}
	}
	return s.exchange(ctx, s.p.Software.Next, map[string]string{"version": version})
}

// Keep implements [driver.Upgrader].
func (s *Session) Keep(ctx context.Context) error { return s.exchange(ctx, s.p.Software.Keep, nil) }

// exchange gives a command that is about the device's software.
func (s *Session) exchange(ctx context.Context, c profile.Command, vars map[string]string) error {
	if c.Send == "" {
		return &driver.Refused{Line: "software", Said: "the profile of " + s.p.Platform + " does not say how its software is exchanged"}
	}
	_, err := s.command(ctx, c, vars)
	return err
}

// DropVersion takes a version off the device.
func (s *Session) DropVersion(ctx context.Context, version string) error {
	if !software.ValidVersion(version) {
		return &driver.Refused{Line: version, Said: "it is no version"}
	}
	return s.exchange(ctx, s.p.Software.Drop, map[string]string{"version": version})
}
