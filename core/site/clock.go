package site

import (
	"errors"
	"fmt"
	"strings"
	"time"
)

// Clock is how people type a moment, on the clock of the site that it is of.
const Clock = "2006-01-02T15:04"

const farthestAhead = 366 * 24 * time.Hour

// ParseClock reads a moment on the clock of a zone; the zero time where nothing was typed. One that is more than a year
// ahead is refused.
func ParseClock(text string, zone *time.Location, now time.Time) (time.Time, error) {
	if text = strings.TrimSpace(text); text == "" {
		return time.Time{}, nil
	}
	at, err := time.ParseInLocation(Clock, text, zone)
	switch {
	case err != nil:
		return at, fmt.Errorf("%q is no time; type for example %s", text, now.In(zone).AddDate(0, 0, 1).Format(Clock))
	case at.After(now.Add(farthestAhead)):
		return at, errors.New("it is more than a year ahead; type a nearer time")
	}
	return at, nil
}
