package wire

import (
	"bytes"
	"encoding/json"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Quoted texts are those that the encoder of JSON writes, whichever way they took.
func TestQuotedTextsAreThoseOfTheEncoder(t *testing.T) {
	t.Parallel()
	texts := []string{"", "sailings__find_sailings", "a\"b", `a\b`, "a\nb", "<a&b>", "é", "\u2028", "\x7f", "\x1f", " ", "\xff", strings.Repeat("x", 999)}
	for c := range 256 {
		texts = append(texts, string([]byte{'a', byte(c), 'b'}))
	}
	for _, text := range texts {
		var want bytes.Buffer
		enc := json.NewEncoder(&want)
		enc.SetEscapeHTML(false)
		require.NoError(t, enc.Encode(text))
		assert.Equal(t, strings.TrimSuffix(want.String(), "\n"), string(Quote(text)), "%q", text)
	}
}
