package option

import (
	"fmt"
	"strconv"
	"strings"
	"time"
)

// Forever is the lease time that never ends (RFC 2131 section 3.3).
const Forever = (1<<32 - 1) * time.Second

var units = []struct {
	names []string
	size  time.Duration
}{
	{[]string{"day", "days", "d"}, 24 * time.Hour},
	{[]string{"hour", "hours", "h"}, time.Hour},
	{[]string{"minute", "minutes", "min", "m"}, time.Minute},
	{[]string{"second", "seconds", "sec", "s", ""}, time.Second},
}

// DefaultLease is how long a lease is where no lease time is set.
const DefaultLease = 24 * time.Hour

// ParseDuration reads a time as people write it: "8 hours", "1 day 12 h",
// "90m", "28800" (seconds) or "forever". It is at least 1 second.
func ParseDuration(text string) (time.Duration, error) {
	s := strings.ToLower(strings.TrimSpace(text))
	if s == "forever" {
		return Forever, nil
	}
	bad := fmt.Errorf("%q is not a length of time; type for example 8 hours, 30 minutes or 28800 (seconds)", text)
	var total time.Duration
	for rest := s; rest != ""; {
		digits := len(rest) - len(strings.TrimLeft(rest, "0123456789"))
		n, err := strconv.ParseUint(rest[:digits], 10, 32)
		if err != nil {
			return 0, bad
		}
		rest = strings.TrimLeft(rest[digits:], " ")
		letters := len(rest) - len(strings.TrimLeft(rest, "abcdefghijklmnopqrstuvwxyz"))
		size := unit(rest[:letters])
		if size == 0 {
			return 0, bad
		}
		total += time.Duration(min(n, uint64(Forever/size)+1)) * size
		if total >= Forever {
			return 0, fmt.Errorf("%q is longer than DHCP can say (136 years); type a shorter time or forever", text)
		}
		rest = strings.TrimLeft(rest[letters:], " ,")
	}
	if total < time.Second {
		return 0, bad
	}
	return total, nil
}

func unit(name string) time.Duration {
	for _, u := range units {
		for _, n := range u.names {
			if n == name {
				return u.size
			}
		}
	}
	return 0
}

// FormatDuration writes whole seconds in the words ParseDuration reads.
func FormatDuration(d time.Duration) string {
	if d >= Forever {
		return "forever"
	}
	var parts []string
	for _, u := range units {
		n := d / u.size
		d -= n * u.size
		switch {
		case n == 1:
			parts = append(parts, "1 "+u.names[0])
		case n > 1:
			parts = append(parts, fmt.Sprintf("%d %s", n, u.names[1]))
		}
	}
	if len(parts) == 0 {
		return "0 seconds"
	}
	return strings.Join(parts, " ")
}
