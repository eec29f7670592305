package tools

import (
	"encoding/json"
	"strings"
	"testing"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestCutResult(t *testing.T) {
	t.Parallel()
	result := func(contents ...map[string]any) []byte {
		raw, err := json.Marshal(map[string]any{"content": contents, "structuredContent": map[string]any{"x": 1}, "_meta": map[string]any{"k": "v"}})
		require.NoError(t, err)
		return raw
	}
	text := func(s string) map[string]any { return map[string]any{"type": "text", "text": s} }
	image := map[string]any{"type": "image", "data": strings.Repeat("A", 9000), "mimeType": "image/png"}
	type content struct{ Type, Text string }
	read := func(raw []byte) (out []content) {
		var v struct {
			Content           []content
			StructuredContent any
			Meta              map[string]string `json:"_meta"`
		}
		require.NoError(t, json.Unmarshal(raw, &v))
		assert.Nil(t, v.StructuredContent, "it is no longer what the text says")
		assert.Equal(t, "v", v.Meta["k"])
		return v.Content
	}
	for name, long := range map[string]string{
		"plain": strings.Repeat("x", 9000), "two bytes each": strings.Repeat("å", 5000), "escaped": strings.Repeat("\x01", 5000),
		"four bytes each": strings.Repeat("𝄞", 3000), "quotes": strings.Repeat(`"`, 9000),
	} {
		cut, ok := CutResult(result(text("first"), text(long), text("last")), 4096, false)
		require.True(t, ok, name)
		assert.LessOrEqual(t, len(cut), 4096, name)
		got := read(cut)
		assert.Equal(t, "first", got[0].Text)
		assert.True(t, strings.HasPrefix(long, got[1].Text) && len(got[1].Text) > 200, name)
		assert.True(t, utf8.ValidString(got[1].Text), name)
		assert.NotContains(t, got[1].Text, "\uFFFD", name)
		assert.Contains(t, got[len(got)-1].Text, "Ask for less")
	}
	cut, ok := CutResult(result(image, text("caption")), 2048, false)
	require.True(t, ok)
	got := read(cut)
	assert.Equal(t, "caption", got[0].Text)
	assert.Contains(t, got[1].Text, "one part of it was left out")
	for name, row := range map[string]struct {
		raw        []byte
		limit      int
		structured bool
	}{
		"its form is promised": {result(image), 2048, true}, "no object": {[]byte(`[1]`), 2048, false}, "no contents": {[]byte(`{"content":7}`), 2048, false},
		"hardly any room": {result(image), 100, false}, "no JSON": {[]byte(`{`), 2048, false},
	} {
		_, ok := CutResult(row.raw, row.limit, row.structured)
		assert.False(t, ok, name)
	}
}
