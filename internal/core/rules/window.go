package rules

import (
	"fmt"
	"slices"
	"strings"
	"time"
)

// Window is the times of a week at which a rule holds, in one time zone.
type Window struct {
	days     [7]bool // by time.Weekday; the day on which it opens
	from, to int     // minutes of a day; to may be before from, then it closes the day after
	zone     *time.Location
}

var weekdays = []string{"sun", "mon", "tue", "wed", "thu", "fri", "sat"}

const windowForm = "times look like mon-fri 22:00-06:00 Europe/Oslo; days can be left out, and without a zone it is UTC"

// ReadWindow reads times as people write them: days (mon-fri, or sat,sun; every day if
// left out), a span (22:00-06:00), and a time zone of the IANA database (UTC if left out).
func ReadWindow(text string) (Window, error) {
	w := Window{zone: time.UTC, days: [7]bool{true, true, true, true, true, true, true}}
	fields := strings.Fields(text)
	if len(text) > 100 || len(fields) == 0 {
		return w, fmt.Errorf("is %.60q; %s", text, windowForm)
	}
	if first := fields[0]; !strings.Contains(first, ":") && strings.Trim(first, "0123456789-") != "" {
		days, err := readDays(first)
		if err != nil {
			return w, err
		}
		w.days, fields = days, fields[1:]
	}
	if len(fields) == 0 || len(fields) > 2 {
		return w, fmt.Errorf("is %.60q; %s", text, windowForm)
	}
	from, to, ok := strings.Cut(fields[0], "-")
	var err error
	if w.from, err = readClock(from); err != nil || !ok {
		return w, fmt.Errorf("is %.60q; %s", text, windowForm)
	}
	if w.to, err = readClock(to); err != nil {
		return w, fmt.Errorf("is %.60q; %s", text, windowForm)
	}
	if w.from == w.to {
		return w, fmt.Errorf("opens and closes at %s, so it never holds; for a whole day write 00:00-24:00", from)
	}
	if len(fields) == 2 {
		if w.zone, err = time.LoadLocation(fields[1]); err != nil || fields[1] == "Local" {
			return w, fmt.Errorf("names %.60q, which is no time zone; one looks like Europe/Oslo", fields[1])
		}
	}
	return w, nil
}

func readDays(text string) (days [7]bool, err error) {
	for _, part := range strings.Split(strings.ToLower(text), ",") {
		first, last, isRange := strings.Cut(part, "-")
		if !isRange {
			last = first
		}
		a, b := slices.Index(weekdays, first), slices.Index(weekdays, last)
		if a < 0 || b < 0 {
			return days, fmt.Errorf("names %.40q, which is no day; days are %s", part, strings.Join(weekdays, ", "))
		}
		for d := a; ; d = (d + 1) % 7 {
			days[d] = true
			if d == b {
				break
			}
		}
	}
	return days, nil
}

func readClock(text string) (minutes int, err error) {
	if text == "24:00" {
		return 24 * 60, nil
	}
	t, err := time.Parse("15:04", text)
	if err != nil {
		return 0, err
	}
	return t.Hour()*60 + t.Minute(), nil
}

// Open reports whether the window is open at a time.
func (w Window) Open(at time.Time) bool {
	at = at.In(w.zone)
	minute, today := at.Hour()*60+at.Minute(), at.Weekday()
	if w.from < w.to {
		return w.days[today] && minute >= w.from && minute < w.to
	}
	yesterday := (today + 6) % 7
	return w.days[today] && minute >= w.from || w.days[yesterday] && minute < w.to
}

// Turns is the next time after at when the window opens or closes; the zero time when
// it never does.
func (w Window) Turns(at time.Time) time.Time {
	open := w.Open(at)
	// Days with a change of the clock have other lengths than 24 hours, so that times
	// are looked at one by one: those at which it could turn, and the changes between.
	minute := at.Truncate(time.Minute)
	for range 8 * 24 * 60 {
		minute = minute.Add(time.Minute)
		if w.Open(minute) != open {
			return minute
		}
	}
	return time.Time{}
}
