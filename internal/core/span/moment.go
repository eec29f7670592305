package span

import (
	"fmt"
	"slices"
	"strings"
	"time"
)

var weekdays = []string{"sun", "mon", "tue", "wed", "thu", "fri", "sat"}

// Past is Moment for what has been: a length of time ago, the last time that it was that
// clock time or day.
func Past(text string, now time.Time) (time.Time, error) {
	at, err := Moment(text, now)
	if err != nil || !at.After(now) {
		return at, err
	}
	if d, err := Parse(strings.ToLower(strings.TrimSpace(text))); err == nil {
		return now.Add(-d), nil
	}
	if strings.Contains(text, "-") {
		return at, fmt.Errorf("%.40q has not come yet", text)
	}
	back := -1
	if strings.Contains(strings.TrimSpace(text), " ") {
		back = -7
	}
	return at.AddDate(0, 0, back), nil
}

// Moment reads a point in time as people write it: a length of time from now (3d, 12h), a
// clock time (18:00, the next there is), a day of the week with one (fri 18:00), a date
// with or without one (2026-12-04 18:00), or RFC 3339. Times without a zone are in the
// zone of now.
func Moment(text string, now time.Time) (time.Time, error) {
	text = strings.ToLower(strings.TrimSpace(text))
	for _, layout := range [...]string{time.RFC3339, "2006-01-02 15:04", "2006-01-02t15:04", time.DateOnly} {
		if t, err := time.ParseInLocation(layout, strings.ToUpper(text), now.Location()); err == nil {
			return t, nil
		}
		if t, err := time.ParseInLocation(layout, text, now.Location()); err == nil {
			return t, nil
		}
	}
	if d, err := Parse(text); err == nil && d > 0 {
		return now.Add(d), nil
	}
	day, clock, both := strings.Cut(text, " ")
	if !both {
		day, clock = "", text
	}
	at, err := time.Parse("15:04", clock)
	wanted := slices.IndexFunc(weekdays, func(w string) bool { return day != "" && strings.HasPrefix(day, w) })
	if err != nil || both && wanted < 0 {
		return time.Time{}, fmt.Errorf("%.40q is no time; one looks like 3d, fri 18:00, 2026-12-04 18:00 or 2026-12-04T18:00:00Z", text)
	}
	next := time.Date(now.Year(), now.Month(), now.Day(), at.Hour(), at.Minute(), 0, 0, now.Location())
	for !next.After(now) || wanted >= 0 && int(next.Weekday()) != wanted {
		next = time.Date(next.Year(), next.Month(), next.Day()+1, at.Hour(), at.Minute(), 0, 0, now.Location())
	}
	return next, nil
}
