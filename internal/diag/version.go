package diag

import (
	"runtime/debug"
	"strings"

	"golang.org/x/mod/module"
	"golang.org/x/mod/semver"
)

// Version is the tag that the program was built from, as Go takes it down; "unreleased" between
// two tags.
func Version() string {
	info, ok := debug.ReadBuildInfo()
	if !ok {
		return unreleased
	}
	return released(info.Main.Version)
}

const unreleased = "unreleased"

// released is a version without what Go makes of a commit that has no tag.
func released(v string) string {
	v, dirty := strings.CutSuffix(v, "+dirty")
	if !semver.IsValid(v) || module.IsPseudoVersion(v) || dirty {
		return unreleased
	}
	return strings.TrimPrefix(v, "v")
}

// Commit is what the program was built from.
func Commit() string {
	info, ok := debug.ReadBuildInfo()
	if !ok {
		return "unknown"
	}
	rev, changed := "unknown", ""
	for _, s := range info.Settings {
		switch {
		case s.Key == "vcs.revision":
			rev = s.Value[:min(len(s.Value), 12)]
		case s.Key == "vcs.modified" && s.Value == "true":
			changed = ", changed since"
		}
	}
	return rev + changed
}
