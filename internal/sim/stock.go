package sim

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"
)

// Stocked is an image that a scenario has for its devices.
type Stocked struct {
	Platform string        `yaml:"platform"`
	Version  string        `yaml:"version"`
	From     []string      `yaml:"from"`
	Adds     []string      `yaml:"adds"`    // lines that it writes into the configuration by itself
	KB       int           `yaml:"kb"`      // how large it is; 64 when not given
	Restart  time.Duration `yaml:"restart"` // as its catalogue says
	Never    string        `yaml:"never"`
}

// WriteStock writes the images of a scenario into a directory, with their catalogue.
func (s Scenario) WriteStock(dir string) error {
	if len(s.Images) == 0 {
		return nil
	}
	of := map[string][]string{}
	var platforms []string
	for _, i := range s.Images {
		file := fmt.Sprintf("%s-%s.img", i.Platform, i.Version)
		data := Image(i.Platform, i.Version, orElse(i.KB, 64)<<10, i.Adds...)
		if err := os.WriteFile(filepath.Join(dir, file), data, 0o644); err != nil {
			return err
		}
		sum := sha256.Sum256(data)
		text := fmt.Sprintf("  - version: %q\n    file: %s\n    sha256: %s\n    size: %d\n", i.Version, file, hex.EncodeToString(sum[:]), len(data))
		if len(i.From) > 0 {
			text += "    from: [\"" + strings.Join(i.From, `", "`) + "\"]\n"
		}
		if i.Restart > 0 {
			text += fmt.Sprintf("    restart: %s\n", i.Restart)
		}
		if i.Never != "" {
			text += fmt.Sprintf("    never: %q\n", i.Never)
		}
		if of[i.Platform] == nil {
			platforms = append(platforms, i.Platform)
		}
		of[i.Platform] = append(of[i.Platform], text)
	}
	slices.Sort(platforms)
	text := "# What software there is for the simulated fleet.\n"
	for _, p := range platforms {
		text += p + ":\n" + strings.Join(of[p], "")
	}
	return os.WriteFile(filepath.Join(dir, "images.yaml"), []byte(text), 0o644)
}
