package quiet_test

import (
	"testing"
	"time"
	_ "time/tzdata" // the machine may have none

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bouncer/internal/core/quiet"
	"bouncer/internal/core/team"
)

// When something is told follows from the wish alone.
func TestWhenSomethingIsTold(t *testing.T) {
	t.Parallel()
	for name, row := range map[string]struct {
		w         quiet.Wish
		now, want string
	}{
		"at once":                   {quiet.Wish{Every: "once"}, "2026-11-23T09:15:30Z", "2026-11-23T09:15:30Z"},
		"gathered for an hour":      {quiet.Wish{Every: "hour"}, "2026-11-23T09:15:30Z", "2026-11-23T10:00:00Z"},
		"for an hour, at its turn":  {quiet.Wish{Every: "hour"}, "2026-11-23T10:00:00Z", "2026-11-23T11:00:00Z"},
		"before midnight":           {quiet.Wish{Every: "hour"}, "2026-11-30T23:59:00Z", "2026-12-01T00:00:00Z"},
		"today":                     {quiet.Wish{Every: "day", At: "08:00"}, "2026-11-23T07:59:59Z", "2026-11-23T08:00:00Z"},
		"tomorrow":                  {quiet.Wish{Every: "day", At: "08:00"}, "2026-11-23T08:00:00Z", "2026-11-24T08:00:00Z"},
		"in a zone":                 {quiet.Wish{Every: "day", At: "08:00", Zone: "Europe/Oslo"}, "2026-11-23T06:59:00Z", "2026-11-23T07:00:00Z"},
		"in summer":                 {quiet.Wish{Every: "day", At: "08:00", Zone: "Europe/Oslo"}, "2026-07-23T06:01:00Z", "2026-07-24T06:00:00Z"},
		"over a change of clocks":   {quiet.Wish{Every: "day", At: "08:00", Zone: "Europe/Oslo"}, "2026-10-24T07:00:00Z", "2026-10-25T07:00:00Z"},
		"in the night":              {quiet.Wish{Every: "once", From: "22:00", To: "07:00"}, "2026-11-23T22:00:00Z", "2026-11-24T07:00:00Z"},
		"after midnight":            {quiet.Wish{Every: "once", From: "22:00", To: "07:00"}, "2026-11-24T06:59:00Z", "2026-11-24T07:00:00Z"},
		"the night is over":         {quiet.Wish{Every: "once", From: "22:00", To: "07:00"}, "2026-11-24T07:00:00Z", "2026-11-24T07:00:00Z"},
		"before the night":          {quiet.Wish{Every: "once", From: "22:00", To: "07:00"}, "2026-11-24T21:59:00Z", "2026-11-24T21:59:00Z"},
		"at noon":                   {quiet.Wish{Every: "once", From: "12:00", To: "13:30"}, "2026-11-24T12:30:00Z", "2026-11-24T13:30:00Z"},
		"after noon":                {quiet.Wish{Every: "once", From: "12:00", To: "13:30"}, "2026-11-24T13:30:00Z", "2026-11-24T13:30:00Z"},
		"the hour ends in quiet":    {quiet.Wish{Every: "hour", From: "22:00", To: "07:15"}, "2026-11-23T21:30:00Z", "2026-11-24T07:15:00Z"},
		"the day's mail in quiet":   {quiet.Wish{Every: "day", At: "06:00", From: "22:00", To: "07:00"}, "2026-11-23T21:30:00Z", "2026-11-24T07:00:00Z"},
		"a zone that is gone":       {quiet.Wish{Every: "hour", Zone: "Europe/Skerrow"}, "2026-11-23T09:15:30Z", "2026-11-23T10:00:00Z"},
		"quiet in another zone":     {quiet.Wish{Every: "once", From: "22:00", To: "07:00", Zone: "Europe/Oslo"}, "2026-11-23T21:30:00Z", "2026-11-24T06:00:00Z"},
		"not yet quiet in the zone": {quiet.Wish{Every: "once", From: "22:00", To: "07:00", Zone: "America/New_York"}, "2026-11-23T22:30:00Z", "2026-11-23T22:30:00Z"},
	} {
		now, err := time.Parse(time.RFC3339, row.now)
		require.NoError(t, err)
		assert.Equal(t, row.want, row.w.Next(now).UTC().Format(time.RFC3339), name)
	}
}

// What is wrong is said of its field, and what was left out is filled in.
func TestWishesAreChecked(t *testing.T) {
	t.Parallel()
	w, err := quiet.Wish{Mail: " joss@skerrow.example ", Topics: []quiet.Topic{"secrets", "held", "held"}}.Checked()
	require.NoError(t, err)
	assert.Equal(t, quiet.Wish{Mail: "joss@skerrow.example", Topics: []quiet.Topic{"held", "secrets"}, Every: "once", At: "08:00"}, w)
	assert.True(t, w.Wants(quiet.Held))
	assert.False(t, w.Wants(quiet.Budgets))
	assert.False(t, quiet.Wish{Topics: quiet.Topics}.Wants(quiet.Held), "without an address")
	none, err := quiet.Wish{}.Checked()
	require.NoError(t, err)
	assert.Equal(t, []quiet.Topic{}, none.Topics)
	for name, row := range map[string]struct {
		w     quiet.Wish
		field string
	}{
		"no address":           {quiet.Wish{Mail: "joss"}, "mail"},
		"a name":               {quiet.Wish{Mail: "Joss <joss@skerrow.example>"}, "mail"},
		"two":                  {quiet.Wish{Mail: "a@skerrow.example,b@skerrow.example"}, "mail"},
		"a header":             {quiet.Wish{Mail: "a@skerrow.example\r\nBcc: b@skerrow.example"}, "mail"},
		"no topic":             {quiet.Wish{Topics: []quiet.Topic{"weather"}}, "topics"},
		"how often":            {quiet.Wish{Every: "week"}, "every"},
		"a time":               {quiet.Wish{At: "8"}, "at"},
		"a time of none":       {quiet.Wish{From: "25:00", To: "07:00"}, "quietFrom"},
		"an end of none":       {quiet.Wish{From: "22:00", To: "07:60"}, "quietTo"},
		"a beginning alone":    {quiet.Wish{From: "22:00"}, "quietTo"},
		"an end alone":         {quiet.Wish{To: "22:00"}, "quietTo"},
		"nothing between":      {quiet.Wish{From: "22:00", To: "22:00"}, "quietTo"},
		"no zone":              {quiet.Wish{Zone: "Skerrow"}, "zone"},
		"that of this machine": {quiet.Wish{Zone: "Local"}, "zone"},
	} {
		_, err := row.w.Checked()
		var field *team.FieldError
		require.ErrorAs(t, err, &field, name)
		assert.Equal(t, row.field, field.Field, name)
	}
	long := make([]byte, 260)
	for i := range long {
		long[i] = 'a'
	}
	_, err = quiet.Wish{Mail: string(long) + "@skerrow.example"}.Checked()
	assert.Error(t, err)
}
