//go:build !linux

package workspace

import "time"

// asleep is not known here.
func asleep() time.Duration { return 0 }
