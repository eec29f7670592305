package span

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestSpans(t *testing.T) {
	t.Parallel()
	for text, want := range map[string]time.Duration{
		"0": 0, "90s": 90 * time.Second, "1d": 24 * time.Hour, "2w": 14 * 24 * time.Hour, "1d12h": 36 * time.Hour, "1.5h": 90 * time.Minute,
		"250ms": 250 * time.Millisecond, "5m0s": 5 * time.Minute,
	} {
		got, err := Parse(text)
		assert.NoError(t, err, text)
		assert.Equal(t, want, got, text)
		again, err := Parse(Text(got))
		assert.NoError(t, err)
		assert.Equal(t, got, again, "what is written is read")
	}
	for _, bad := range []string{"", "5", "d", "-1d", "1 d", "1y", "1d ", "tomorrow", "1e9d", "999999999w", "5m-1s"} {
		_, err := Parse(bad)
		assert.Error(t, err, bad)
	}
	assert.Equal(t, "0", Text(0))
	longest, err := Parse("36500d")
	require.NoError(t, err, "a hundred years")
	assert.Equal(t, 36500*24*time.Hour, longest)
	_, err = Parse("36500d1s")
	assert.NoError(t, err, "what is added up may end a little later")
	_, err = Parse("36500d1s1s")
	assert.Error(t, err)
	assert.Equal(t, "1m30s", Text(90*time.Second))
	assert.Equal(t, "90d", Text(90*24*time.Hour))
	assert.Equal(t, "2w", Text(14*24*time.Hour))
	assert.Equal(t, "0", Text(time.Microsecond))
	var d time.Duration
	assert.NoError(t, Value{&d}.Set("1d"))
	assert.Equal(t, "1d", Value{&d}.String())
}

func TestMoments(t *testing.T) {
	t.Parallel()
	oslo, err := time.LoadLocation("Europe/Oslo")
	require.NoError(t, err)
	now := time.Date(2026, 3, 25, 12, 30, 0, 0, oslo) // a Wednesday
	for text, want := range map[string]string{
		"3d": "2026-03-28T12:30:00+01:00", "90m": "2026-03-25T14:00:00+01:00", "18:00": "2026-03-25T18:00:00+01:00",
		"12:30": "2026-03-26T12:30:00+01:00", "fri 18:00": "2026-03-27T18:00:00+01:00", "Wednesday 09:00": "2026-04-01T09:00:00+02:00",
		"2026-12-04": "2026-12-04T00:00:00+01:00", "2026-12-04 18:00": "2026-12-04T18:00:00+01:00",
		"2026-12-04T18:00:00Z": "2026-12-04T18:00:00Z",
	} {
		at, err := Moment(text, now)
		require.NoError(t, err, text)
		assert.Equal(t, want, at.Format(time.RFC3339), text)
	}
	for text, want := range map[string]string{
		"3d": "2026-03-22T12:30:00+01:00", "18:00": "2026-03-24T18:00:00+01:00", "09:00": "2026-03-25T09:00:00+01:00",
		"mon 09:00": "2026-03-23T09:00:00+01:00", "wed 18:00": "2026-03-18T18:00:00+01:00", "2026-03-01": "2026-03-01T00:00:00+01:00",
	} {
		at, err := Past(text, now)
		require.NoError(t, err, text)
		assert.Equal(t, want, at.Format(time.RFC3339), text)
	}
	_, err = Past("2027-03-01", now)
	assert.ErrorContains(t, err, "has not come yet")
	for _, bad := range []string{"", "-3d", "soon", "fri", "someday 18:00", "25:00", "2026-13-01"} {
		_, err := Moment(bad, now)
		assert.ErrorContains(t, err, "is no time", bad)
	}
}

// The first day of the week is one too, and no time at all is none.
func TestMomentsAtTheirEnds(t *testing.T) {
	t.Parallel()
	now := time.Date(2026, 11, 23, 9, 30, 0, 0, time.UTC) // a Monday
	at, err := Moment("sun 09:30", now)
	require.NoError(t, err)
	assert.Equal(t, time.Date(2026, 11, 29, 9, 30, 0, 0, time.UTC), at)
	at, err = Moment("mon 09:30", now)
	require.NoError(t, err)
	assert.Equal(t, now.AddDate(0, 0, 7), at, "the next, and not now")
	_, err = Moment("0s", now)
	assert.Error(t, err)
}
