// Package span reads and writes lengths of time as people say them: 90s, 15m, 12h, 1d,
// 2w, or several together, as in 1d12h.
package span

import (
	"fmt"
	"regexp"
	"strconv"
	"time"
)

const (
	day  = 24 * time.Hour
	week = 7 * day
)

var units = map[string]time.Duration{
	"ms": time.Millisecond, "s": time.Second, "m": time.Minute, "h": time.Hour, "d": day, "w": week,
}

var (
	whole = regexp.MustCompile(`^(?:\d{1,9}(?:\.\d{1,6})?(?:ms|[smhdw]))+$`)
	part  = regexp.MustCompile(`(\d+(?:\.\d+)?)(ms|[smhdw])`)
)

// Parse reads a length of time; 0 needs no unit. It is never negative.
func Parse(text string) (time.Duration, error) {
	if text == "0" {
		return 0, nil
	}
	if !whole.MatchString(text) {
		return 0, fmt.Errorf("%.40q is no length of time, like 90s, 15m, 12h, 1d or 2w", text)
	}
	var sum time.Duration
	for _, m := range part.FindAllStringSubmatch(text, -1) {
		n, err := strconv.ParseFloat(m[1], 64)
		more := n * float64(units[m[2]])
		if err != nil || more > float64(100*365*day) || sum > 100*365*day {
			return 0, fmt.Errorf("%.40q is too long", text)
		}
		sum += time.Duration(more)
	}
	return sum, nil
}

// Text writes a length of time in its largest units: 1d12h, 90s as 1m30s; weeks only
// where it is nothing but weeks.
func Text(d time.Duration) string {
	if d <= 0 {
		return "0"
	}
	if d%week == 0 {
		return strconv.FormatInt(int64(d/week), 10) + "w"
	}
	out := ""
	for _, u := range [...]struct {
		name string
		of   time.Duration
	}{{"d", day}, {"h", time.Hour}, {"m", time.Minute}, {"s", time.Second}, {"ms", time.Millisecond}} {
		if n := d / u.of; n > 0 {
			out += strconv.FormatInt(int64(n), 10) + u.name
			d -= n * u.of
		}
	}
	if out == "" {
		return "0"
	}
	return out
}

// Value is a flag that holds a length of time.
type Value struct{ To *time.Duration }

// Set implements flag.Value.
func (v Value) Set(text string) (err error) {
	*v.To, err = Parse(text)
	return err
}

// String implements flag.Value.
func (v Value) String() string {
	if v.To == nil || *v.To == 0 {
		return ""
	}
	return Text(*v.To)
}
