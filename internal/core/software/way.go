package software

import (
	"fmt"
	"slices"
	"strings"

	"metabasis/internal/core/problem"
)

// Way is the shortest way of a model from the version that it runs to another: the images that it is given,
// each with a restart, the last being what is wanted; none where it runs that already. Of two ways that
// are as long, it is the one whose images stand first in the catalogue. The error says why there is none.
func Way(images []Image, model, runs, wanted string) ([]Image, error) {
	if err := Wanted(images, model, wanted); err != nil {
		return nil, err
	}
	if runs == wanted {
		return nil, nil
	}
	to := map[string][]Image{runs: nil} // by version, how it is reached
	for queue := []string{runs}; len(queue) > 0; queue = queue[1:] {
		at := queue[0]
		for _, i := range images {
			if _, known := to[i.Version]; known || i.Never != "" || !i.Fits(model) || !i.ReachedFrom(at) {
				continue
			}
			to[i.Version] = append(slices.Clone(to[at]), i)
			if i.Version == wanted {
				return to[i.Version], nil
			}
			queue = append(queue, i.Version)
		}
	}
	target := find(images, model, wanted)
	return nil, fmt.Errorf("no way leads from %s to %s, which can be reached from %s only", runs, wanted, strings.Join(target.From, ", "))
}

// Wanted says why a version cannot be wanted on a model.
func Wanted(images []Image, model, wanted string) error {
	var others []string
	for _, i := range images {
		if i.Version == wanted && !i.Fits(model) {
			others = i.Models
		}
	}
	i := find(images, model, wanted)
	switch {
	case i == nil && others != nil && model == "":
		return fmt.Errorf("version %s is for the models %s, and the fleet has no column model that says which it is", wanted, strings.Join(others, ", "))
	case i == nil && others != nil:
		return fmt.Errorf("version %s is for the models %s, and this one is a %s", wanted, strings.Join(others, ", "), model)
	case len(images) == 0:
		return fmt.Errorf("%s says of no software for it", FileName)
	case i == nil:
		return fmt.Errorf("%s has no version %s%s", FileName, wanted, problem.Write(wanted, versions(images)))
	case i.Never != "":
		return fmt.Errorf("version %s is never installed: %s", wanted, i.Never)
	}
	return nil
}

// find is the image of a version for a model; nil where there is none.
func find(images []Image, model, version string) *Image {
	for n, i := range images {
		if i.Version == version && i.Fits(model) {
			return &images[n]
		}
	}
	return nil
}

func versions(images []Image) (out []string) {
	for _, i := range images {
		out = append(out, i.Version)
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// Longest is the longest of the ways of a model to a version from those that the catalogue speaks of, in
// restarts: what has to be reckoned with of a device of which nothing is read.
func Longest(images []Image, model, wanted string) int {
	most := 1
	for _, i := range images {
		for _, from := range append([]string{i.Version}, i.From...) {
			if way, err := Way(images, model, strings.ReplaceAll(from, "*", ""), wanted); err == nil {
				most = max(most, len(way))
			}
		}
	}
	return most
}
