package profile

import (
	"slices"
	"strings"
)

// wholes reports what a platform needs that takes only whole configurations.
func (c *checker) wholes() {
	cfg := c.p.Config
	if !cfg.Whole {
		for _, key := range c.keys("configuration") {
			if slices.Contains([]string{"check", "apply", "drop"}, key) {
				c.fail("configuration."+key, "whole: true", "only a configuration that is handed over as a whole is checked and applied")
			}
		}
		return
	}
	if c.p.Restore.Send == "" {
		c.fail("configuration.whole", "restore: with send:, ready: and end:", "nothing says how a whole configuration is handed over")
	}
	c.command("configuration.check", cfg.Check, false)
	c.command("configuration.apply", cfg.Apply, !c.p.OnTrial())
	c.command("configuration.drop", cfg.Drop, false)
	if c.p.OnTrial() && (cfg.Check.Send != "" || cfg.Apply.Send != "" || cfg.Drop.Send != "") {
		c.fail("configuration.apply", "trial: check:, apply: and drop:", "where changes are applied on trial, how that is done stands under trial")
	}
	if strings.Contains(cfg.Apply.Send, "<<seconds>>") {
		c.fail("configuration.apply", "", "there is no time to apply it for")
	}
}
