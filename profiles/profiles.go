// Package profiles holds the profiles that ship with Metabasis.
package profiles

import (
	"embed"
	"fmt"
	"io/fs"

	"metabasis/internal/device/profile"
)

//go:embed *.yaml
var files embed.FS

// Shipped loads the profiles that ship with the product.
func Shipped() (profile.Set, error) {
	set := profile.Set{}
	names, err := fs.Glob(files, "*.yaml")
	if err != nil {
		return nil, err
	}
	for _, name := range names {
		data, err := files.ReadFile(name)
		if err != nil {
			return nil, err
		}
		p, err := profile.Load(name, data)
		if err != nil {
			return nil, fmt.Errorf("shipped profile: %w", err)
		}
		set[p.Platform] = p
	}
	return set, nil
}
