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

// As much is kept as there is room for: what frames the result, the note and the content itself
// count, and a text is not cut shorter than it needs be.
func TestCutResultKeepsWhatFits(t *testing.T) {
	t.Parallel()
	const around, frame = len(`{}`) + noteRoom, len(`{"type":"text"}`) + len(`,"text":""`)
	cut := func(limit int, contents ...string) (kept []string, ok bool) {
		raw, ok := CutResult([]byte(`{"content":[`+strings.Join(contents, ",")+`]}`), limit, false)
		if !ok {
			return nil, false
		}
		assert.LessOrEqual(t, len(raw), limit)
		var v struct {
			Content []struct{ Type, Text, Data string }
		}
		require.NoError(t, json.Unmarshal(raw, &v))
		for _, c := range v.Content[:len(v.Content)-1] {
			kept = append(kept, c.Text+c.Data)
		}
		return append(kept, v.Content[len(v.Content)-1].Text), true
	}
	text := func(s string) string {
		raw, err := json.Marshal(s)
		require.NoError(t, err)
		return `{"type":"text","text":` + string(raw) + `}`
	}
	image := func(size int) string {
		return `{"type":"image","data":"` + strings.Repeat("A", size-len(`{"type":"image","data":""}`)) + `"}`
	}

	got, ok := cut(1000, text(strings.Repeat("x", 2000)))
	require.True(t, ok)
	assert.Len(t, got[0], 1000-around-frame)
	got, ok = cut(1000, text("first"), text(strings.Repeat("x", 2000)))
	require.True(t, ok)
	assert.Len(t, got[1], 1000-around-len(text("first"))-1-frame)
	for _, limit := range []int{1000, 1001} {
		got, ok = cut(limit, text(strings.Repeat("å", 2000)))
		require.True(t, ok)
		assert.Len(t, got[0], (limit-around-frame)/2*2, "down to the last whole character")
	}
	got, ok = cut(2000, text(strings.Repeat("\x01", 700)))
	require.True(t, ok)
	assert.Greater(t, 6*len(got[0]), (2000-around-frame)*3/4-6, "what is written longer than it is")

	// Where the measures lie.
	_, ok = cut(2*noteRoom-1, text(strings.Repeat("x", 2000)))
	assert.False(t, ok)
	_, ok = cut(2*noteRoom, text(strings.Repeat("x", 2000)))
	assert.True(t, ok)
	got, _ = cut(2000, image(2000-around-1), image(2000))
	assert.Len(t, got, 2, "the one that fits, and the note")
	assert.Contains(t, got[1], ", and one part of it was left out")
	got, _ = cut(2000, image(2000-around), image(2000))
	require.Len(t, got, 1)
	assert.Contains(t, got[0], ", and 2 parts of it were left out")
	assert.Contains(t, got[0], "this result had")
	got, _ = cut(1000, text("a"), text(strings.Repeat("x", 2000)), text("b"))
	assert.Len(t, got, 3, "once something was cut, nothing follows")
	for room, kept := range map[int]bool{63: false, 64: true} {
		before := image(2000 - around - frame - room - 1)
		got, _ = cut(2000, before, text(strings.Repeat("x", 2000)))
		assert.Len(t, got, map[bool]int{false: 2, true: 3}[kept], room)
	}
	for room, fits := range map[int]bool{-1: false, 0: true} {
		meta := strings.Repeat("m", 2000-noteRoom-len(`{"_meta":""}`)-room)
		_, ok := CutResult([]byte(`{"_meta":"`+meta+`","content":[`+image(3000)+`]}`), 2000, false)
		assert.Equal(t, fits, ok, room)
	}
}
