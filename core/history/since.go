package history

import (
	"errors"
	"strconv"
	"strings"
	"time"
)

// Since reads a time as people give it: a day, a time of day, or how long before now it was.
func Since(text string, now time.Time) (time.Time, error) {
	for _, form := range []string{time.RFC3339, "2006-01-02T15:04", "2006-01-02 15:04", "2006-01-02"} {
		if t, err := time.ParseInLocation(form, text, time.Local); err == nil {
			return t, nil
		}
	}
	if n, ok := strings.CutSuffix(text, "d"); ok {
		if days, err := strconv.ParseFloat(n, 64); err == nil && days >= 0 {
			return now.Add(-time.Duration(days * 24 * float64(time.Hour))), nil
		}
	}
	if d, err := time.ParseDuration(text); err == nil && d >= 0 {
		return now.Add(-d), nil
	}
	return time.Time{}, errors.New("write a day (2026-03-02), a time, or how long ago (90m, 3h, 2d)")
}
