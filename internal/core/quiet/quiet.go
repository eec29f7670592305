// Package quiet says what a person is told by mail, and when: at once, gathered, and not in
// the hours in which nobody wants to be woken.
package quiet

import (
	"fmt"
	"net/mail"
	"slices"
	"strings"
	"time"

	"bouncer/internal/core/team"
)

// Topic is what somebody can be told of.
type Topic string

// The topics.
const (
	Held      Topic = "held"      // calls that wait for a decision of theirs
	Incidents Topic = "incidents" // a cause at a server, when it begins and when it is over
	Secrets   Topic = "secrets"   // those that end soon
	Budgets   Topic = "budgets"   // spent by an agent of theirs, or by any for those who see all
)

// Topics are all of them.
var Topics = []Topic{Held, Incidents, Secrets, Budgets}

// How often mail is sent.
const (
	AtOnce = "once"
	Hourly = "hour"
	Daily  = "day"
)

// Wish is what one person wants. The zero value is to be told of nothing.
type Wish struct {
	Mail   string  `json:"mail" doc:"address; empty for no mail"`
	Topics []Topic `json:"topics" enum:"held,incidents,secrets,budgets" doc:"what to be told of"`
	Every  string  `json:"every" enum:"once,hour,day" doc:"at once, or gathered for an hour or a day"`
	At     string  `json:"at" doc:"when the mail of a day is sent, as in 08:00"`
	From   string  `json:"quietFrom" doc:"when the quiet hours begin, as in 22:00; empty for none"`
	To     string  `json:"quietTo" doc:"when they end, as in 07:00"`
	Zone   string  `json:"zone" doc:"time zone of these times, as in Europe/Oslo; empty for UTC"`
}

// Checked is the wish with what was left out, or a *team.FieldError.
func (w Wish) Checked() (Wish, error) {
	w.Mail = strings.TrimSpace(w.Mail)
	if w.Mail != "" {
		a, err := mail.ParseAddress(w.Mail)
		if err != nil || a.Address != w.Mail || len(w.Mail) > 254 {
			return w, &team.FieldError{Field: "mail", Why: "must be one address, as in joss@skerrow.example"}
		}
	}
	if w.Every == "" {
		w.Every = AtOnce
	}
	if w.At == "" {
		w.At = "08:00"
	}
	if w.Topics == nil {
		w.Topics = []Topic{}
	}
	for _, t := range w.Topics {
		if !slices.Contains(Topics, t) {
			return w, &team.FieldError{Field: "topics", Why: fmt.Sprintf("has %q; the topics are held, incidents, secrets and budgets", t)}
		}
	}
	slices.Sort(w.Topics)
	w.Topics = slices.Compact(w.Topics)
	if !slices.Contains([]string{AtOnce, Hourly, Daily}, w.Every) {
		return w, &team.FieldError{Field: "every", Why: "must be once, hour or day"}
	}
	if (w.From == "") != (w.To == "") {
		return w, &team.FieldError{Field: "quietTo", Why: "must be given together with the beginning of the quiet hours"}
	}
	for _, c := range [...]struct{ field, text string }{{"at", w.At}, {"quietFrom", w.From}, {"quietTo", w.To}} {
		if _, err := minutes(c.text); c.text != "" && err != nil {
			return w, &team.FieldError{Field: c.field, Why: "must be a time of the day like 22:00"}
		}
	}
	if w.From != "" && w.From == w.To {
		return w, &team.FieldError{Field: "quietTo", Why: "must be another time than the beginning of the quiet hours"}
	}
	if _, err := time.LoadLocation(w.Zone); err != nil || w.Zone == "Local" {
		return w, &team.FieldError{Field: "zone", Why: "must be a time zone like Europe/Oslo"}
	}
	return w, nil
}

// Wants reports whether the person is told of a topic.
func (w Wish) Wants(t Topic) bool { return w.Mail != "" && slices.Contains(w.Topics, t) }

// Next is when something of now is told: now, or when the hour or the day is over, and
// behind the quiet hours. The wish has to be a checked one.
func (w Wish) Next(now time.Time) time.Time {
	zone, err := time.LoadLocation(w.Zone)
	if err != nil {
		zone = time.UTC
	}
	at := now.In(zone)
	switch w.Every {
	case Hourly:
		at = time.Date(at.Year(), at.Month(), at.Day(), at.Hour()+1, 0, 0, 0, zone)
	case Daily:
		at = following(at, w.At)
	}
	if w.quiet(at) {
		at = following(at, w.To)
	}
	return at
}

// quiet reports whether a moment lies in the quiet hours.
func (w Wish) quiet(at time.Time) bool {
	if w.From == "" {
		return false
	}
	now := at.Hour()*60 + at.Minute()
	from, _ := minutes(w.From)
	to, _ := minutes(w.To)
	if from < to {
		return now >= from && now < to
	}
	return now >= from || now < to
}

// following is the next time that a clock shows this, after a moment.
func following(at time.Time, clock string) time.Time {
	m, _ := minutes(clock)
	for day := 0; ; day++ {
		next := time.Date(at.Year(), at.Month(), at.Day()+day, m/60, m%60, 0, 0, at.Location())
		if next.After(at) {
			return next
		}
	}
}

// minutes reads a time of the day.
func minutes(text string) (int, error) {
	t, err := time.Parse("15:04", text)
	if err != nil {
		return 0, fmt.Errorf("read a time of the day: %w", err)
	}
	return t.Hour()*60 + t.Minute(), nil
}
