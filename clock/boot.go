package clock

import (
	"time"

	"golang.org/x/sys/unix"
)

// Boot returns how long this machine has been up, the time included in which it was suspended. It never goes back, whatever is done to
// the clock on the wall, and it passes while the process is stopped.
func Boot() time.Duration {
	var t unix.Timespec
	if err := unix.ClockGettime(unix.CLOCK_BOOTTIME, &t); err != nil { // no Linux before 2.6.39
		return time.Duration(time.Now().UnixNano())
	}
	return time.Duration(t.Nano())
}
