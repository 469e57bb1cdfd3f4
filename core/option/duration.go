package option

import (
	"errors"
	"fmt"
	"regexp"
	"slices"
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
	{[]string{"hour", "hours", "h", "hr", "hrs"}, time.Hour},
	{[]string{"minute", "minutes", "min", "mins", "m"}, time.Minute},
	{[]string{"second", "seconds", "sec", "secs", "s"}, time.Second},
}

// weeks are read, and written as days.
var weeks = []string{"week", "weeks", "w", "wk", "wks"}

// clock is hours, minutes and seconds.
var clock = regexp.MustCompile(`^(\d{1,4}):([0-5]\d):([0-5]\d)$`)

// DefaultLease is how long a lease is where no lease time is set.
const DefaultLease = 24 * time.Hour

// bare is the least number that is taken as seconds without saying so: nobody means
// 3,600 hours, but 8 may be hours or seconds.
const bare = 3600

// ParseDuration reads a time as people write it: "8 hours", "1 day 12 h",
// "1.5 hours", "08:00:00", "1 week", "90m", "28800" (seconds), "forever" or "infinite". It is at least 1 second. A
// number below 3600 needs its unit.
func ParseDuration(text string) (time.Duration, error) {
	s := strings.ToLower(strings.TrimSpace(text))
	if s == "forever" || s == "infinite" {
		return Forever, nil
	}
	s = clock.ReplaceAllString(s, "${1}h${2}m${3}s")
	bad := fmt.Errorf("%q is not a length of time; type for example 8 hours, 30 minutes or 28800 (seconds)", text)
	if n, err := strconv.ParseUint(s, 10, 32); err == nil && n > 0 {
		if n < bare {
			return 0, fmt.Errorf("%d has no unit: type %s, %s or %s", n, unitless(n, time.Hour),
				unitless(n, time.Minute),
				unitless(n, time.Second))
		}
		s += "s"
	}
	var total time.Duration
	for rest := s; rest != ""; {
		digits := len(rest) - len(strings.TrimLeft(rest, "0123456789"))
		n, err := strconv.ParseUint(rest[:digits], 10, 32)
		if err != nil {
			return 0, bad
		}
		part, after, err := fraction(rest[digits:])
		if err != nil {
			return 0, bad
		}
		rest = strings.TrimLeft(after, " ")
		letters := len(rest) - len(strings.TrimLeft(rest, "abcdefghijklmnopqrstuvwxyz"))
		size := unit(rest[:letters])
		if size == 0 {
			return 0, bad
		}
		total += time.Duration(min(n, uint64(Forever/size)+1))*size +
			time.Duration(part*float64(size)).Round(time.Second)
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

// fraction reads what stands behind the point of a number, as in 1.5 hours, of at most three digits.
func fraction(text string) (part float64, rest string, err error) {
	behind, has := strings.CutPrefix(text, ".")
	if !has {
		return 0, text, nil
	}
	digits := len(behind) - len(strings.TrimLeft(behind, "0123456789"))
	if digits == 0 || digits > 3 {
		return 0, text, errors.New("no number")
	}
	part, err = strconv.ParseFloat("0."+behind[:digits], 64)
	return part, behind[digits:], err
}

// unitless is what a number would be in a unit: "8 hours".
func unitless(n uint64, size time.Duration) string {
	for _, u := range units {
		if u.size == size && n == 1 {
			return "1 " + u.names[0]
		}
		if u.size == size {
			return fmt.Sprintf("%d %s", n, u.names[1])
		}
	}
	return ""
}

func unit(name string) time.Duration {
	if slices.Contains(weeks, name) {
		return 7 * 24 * time.Hour
	}
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
