// Package profiles holds the profiles that ship with Metabasis.
package profiles

import (
	"embed"
	"io/fs"

	"metabasis/internal/device/profile"
)

//go:embed *.yaml
var files embed.FS

// Shipped loads the profiles that ship with the product.
func Shipped() (profile.Set, error) {
	all, err := Sources()
	if err != nil {
		return nil, err
	}
	return profile.Sources{Shipped: all}.Set()
}

// Sources are the texts of the profiles that ship with the product.
func Sources() (out []profile.Source, err error) {
	names, err := fs.Glob(files, "*.yaml")
	if err != nil {
		return nil, err
	}
	for _, name := range names {
		data, err := files.ReadFile(name)
		if err != nil {
			return nil, err
		}
		out = append(out, profile.Source{File: name, Data: data})
	}
	return out, nil
}
