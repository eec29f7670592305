package terminal

import (
	"bytes"
	"encoding/json"
	"strings"
	"testing"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func write(t *testing.T, parts ...string) string {
	t.Helper()
	var out bytes.Buffer
	w := NewWriter(&out)
	for _, p := range parts {
		n, err := w.Write([]byte(p))
		require.NoError(t, err)
		require.Equal(t, len(p), n)
	}
	return out.String()
}

func TestNothingSteersTheTerminal(t *testing.T) {
	t.Parallel()
	for in, want := range map[string]string{
		"plain, näht, 漁, 🛟\n\ttab":       "plain, näht, 漁, 🛟\n\ttab",
		"\x1b]52;c;c2tm\x07":             `\u001b]52;c;c2tm\u0007`,
		"a\rb\x08\x00\x7f":               `a\u000db\u0008\u0000\u007f`,
		"\u009b31m":                      `\u009b31m`,
		"\x9b31m":                        "\ufffd31m",
		"safe\u202egnp.exe\u2066x\u2069": `safe\u202egnp.exe\u2066x\u2069`,
		"a\u2028b\u061cc\u200fd":         `a\u2028b\u061cc\u200fd`,
	} {
		assert.Equal(t, want, write(t, in), "%q", in)
	}
	assert.Equal(t, "ü漁", write(t, "\xc3", "\xbc\xe6", "\xbc", "\x81"), "a character that comes in pieces is one")
	assert.Equal(t, `x\u009by`, write(t, "x\xc2", "\x9by"), "so is a control")
	raw, err := json.Marshal(map[string]string{"tool": "a\u202eb\u009bc\x1bd"})
	require.NoError(t, err)
	var back map[string]string
	require.NoError(t, json.Unmarshal([]byte(write(t, string(raw))), &back))
	assert.Equal(t, "a\u202eb\u009bc\x1bd", back["tool"], "programs read what there was")
	assert.Equal(t, `ok  forged   line \u001b[2K`, Line("ok\r\nforged\t\n line \x1b[2K"))
	assert.Equal(t, "as it is", Line("as it is"))
}

func FuzzWriter(f *testing.F) {
	f.Add([]byte("\x1b[2J\xc2"), []byte("\x9b\u202e"))
	f.Add([]byte("a\xe2\x80"), []byte("\xaeb"))
	f.Fuzz(func(t *testing.T, a, b []byte) {
		got := write(t, string(a), string(b))
		require.True(t, utf8.ValidString(got))
		for _, r := range got {
			require.False(t, r != '\n' && r != '\t' && Steers(r), "%q", got)
		}
		require.False(t, strings.ContainsAny(Line(string(a)), "\n\r\t\x1b"))
	})
}
