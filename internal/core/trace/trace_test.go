package trace_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bouncer/internal/core/trace"
)

const given = "00-0af7651916cd43dd8448eb211c80319c-b7ad6b7169203331-01"

// What an agent says is taken over, and the server is told of a span of its own.
func TestTracesGoOn(t *testing.T) {
	t.Parallel()
	p, ok := trace.Read(given, "skerrow=1")
	require.True(t, ok)
	assert.True(t, p.Sampled)
	c := trace.Begin(p, 0)
	require.NotNil(t, c)
	parent, state := c.Headers()
	assert.Equal(t, "skerrow=1", state)
	assert.True(t, strings.HasPrefix(parent, given[:36]), parent)
	assert.NotContains(t, parent, "b7ad6b7169203331")
	again, ok := trace.Read(parent, "")
	require.True(t, ok)
	assert.Equal(t, c.Server, again.Span)
	assert.True(t, again.Sampled)
	assert.NotEqual(t, c.Own, c.Server)

	quiet, ok := trace.Read(given[:53]+"00", "")
	require.True(t, ok)
	assert.Nil(t, trace.Begin(quiet, 1), "one that the agent does not keep is not kept here")
	assert.Nil(t, trace.Begin(trace.Parent{}, 0))
	first, second := trace.Begin(trace.Parent{}, 1), trace.Begin(trace.Parent{}, 1)
	assert.NotEqual(t, first.Trace, second.Trace)
	assert.NotEqual(t, [16]byte{}, first.Trace)
	kept := 0
	for range 1000 {
		if trace.Begin(trace.Parent{}, 0.5) != nil {
			kept++
		}
	}
	assert.InDelta(t, 500, kept, 120)
}

// What is malformed is no trace; later versions may say more.
func TestMalformedTracesAreNone(t *testing.T) {
	t.Parallel()
	for name, text := range map[string]string{
		"nothing": "", "words": "hello", "a part": given[:52], "capitals": strings.ToUpper(given), "no version": "ff" + given[2:],
		"more than there is": given + "-x", "no trace": "00-" + strings.Repeat("0", 32) + given[35:], "no span": given[:36] + strings.Repeat("0", 16) + "-01",
		"no digits": strings.Replace(given, "0af7", "xyz7", 1), "flags of none": given[:53] + "zz", "version of none": "0g" + given[2:],
		"a short trace": "00-0af7-b7ad6b7169203331-01", "a long flag": given + "1", "a short version": given[1:],
	} {
		_, ok := trace.Read(text, "")
		assert.False(t, ok, name)
	}
	p, ok := trace.Read("01"+given[2:]+"-more", strings.Repeat("x", 513))
	assert.True(t, ok, "a later version")
	assert.Empty(t, p.State, "bounded")
	for _, bad := range []string{"a=1\r\nX-Other: 1", "a=é", "\na=1", "a=\x1f", "\x7f"} {
		p, ok = trace.Read(given, bad)
		assert.True(t, ok)
		assert.Empty(t, p.State, "what is no header is left out")
	}
	p, _ = trace.Read(given, " a=~ ")
	assert.Equal(t, " a=~ ", p.State, "all that is seen, and spaces")
	p, _ = trace.Read(given, strings.Repeat("x", 512))
	assert.Len(t, p.State, 512)
}
