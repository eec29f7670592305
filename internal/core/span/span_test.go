package span

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
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
	assert.Equal(t, "1m30s", Text(90*time.Second))
	assert.Equal(t, "90d", Text(90*24*time.Hour))
	assert.Equal(t, "2w", Text(14*24*time.Hour))
	assert.Equal(t, "0", Text(time.Microsecond))
	var d time.Duration
	assert.NoError(t, Value{&d}.Set("1d"))
	assert.Equal(t, "1d", Value{&d}.String())
}
