package workspace

import (
	"time"

	"golang.org/x/sys/unix"
)

// asleep is how long this machine has been suspended since it was started: the clock by
// which Go measures stands still meanwhile, the window and the timers on devices do not
// (clock_gettime(2): CLOCK_BOOTTIME is CLOCK_MONOTONIC and the time of sleep).
func asleep() time.Duration {
	var boot, awake unix.Timespec
	if unix.ClockGettime(unix.CLOCK_BOOTTIME, &boot) != nil || unix.ClockGettime(unix.CLOCK_MONOTONIC, &awake) != nil {
		return 0
	}
	return (time.Duration(boot.Nano()) - time.Duration(awake.Nano())).Round(time.Second)
}
