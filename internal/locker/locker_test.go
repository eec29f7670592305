package locker

import (
	"bytes"
	"encoding/json"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestSealedValuesOpenOnlyWhereTheyBelong(t *testing.T) {
	t.Parallel()
	path := filepath.Join(t.TempDir(), "keys")
	k, err := LoadKeys(t.Context(), path, true)
	require.NoError(t, err)
	info, err := os.Stat(path)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())
	box, err := k.Seal("sailings", NewSecret("the-canary-value"))
	require.NoError(t, err)
	assert.NotContains(t, string(box.Value), "canary")
	again, err := k.Seal("sailings", NewSecret("the-canary-value"))
	require.NoError(t, err)
	assert.NotEqual(t, box.Value, again.Value, "the same value must not look the same twice")

	reloaded, err := LoadKeys(t.Context(), path, false)
	require.NoError(t, err)
	got, err := reloaded.Open(box)
	require.NoError(t, err)
	assert.Equal(t, "the-canary-value", got.Reveal())

	for name, alter := range map[string]func(*Box){
		"under another name":    func(b *Box) { b.ID = "berths" },
		"with an altered value": func(b *Box) { b.Value[20] ^= 1 },
		"with an altered key":   func(b *Box) { b.DataKey[20] ^= 1 },
		"cut short":             func(b *Box) { b.Value = b.Value[:5] },
		"with another data key": func(b *Box) { b.DataKey = again.DataKey },
	} {
		t.Run(name, func(t *testing.T) {
			b := Box{box.ID, box.KeyID, bytes.Clone(box.DataKey), bytes.Clone(box.Value)}
			alter(&b)
			_, err := k.Open(b)
			assert.ErrorContains(t, err, "cannot be decrypted")
		})
	}
	other, err := LoadKeys(t.Context(), filepath.Join(t.TempDir(), "keys"), true)
	require.NoError(t, err)
	_, err = other.Open(box)
	assert.ErrorIs(t, err, ErrKeyLost)
}

func TestKeyFileIsNeverReplaced(t *testing.T) {
	t.Parallel()
	path := filepath.Join(t.TempDir(), "keys")
	_, err := LoadKeys(t.Context(), path, false)
	assert.ErrorIs(t, err, os.ErrNotExist, "a lost key file must not become a new one when there are secrets")
	require.NoError(t, os.WriteFile(path, []byte("{}"), 0o600))
	_, err = LoadKeys(t.Context(), path, true)
	assert.ErrorContains(t, err, "it is no key set")
	raw, _ := os.ReadFile(path)
	assert.Equal(t, "{}", string(raw))
}

func TestSecretCannotBePrinted(t *testing.T) {
	t.Parallel()
	const value = "the-canary-value"
	s := NewSecret(value)
	type holder struct {
		Name   string
		Secret Secret
		List   []Secret
		Ptr    *Secret
		hidden Secret
	}
	h := holder{"n", s, []Secret{s}, &s, s}
	for _, verb := range []string{"%v", "%+v", "%#v", "%s", "%q", "%x", "%d"} {
		assert.NotContains(t, fmt.Sprintf(verb, s), value, verb)
		assert.NotContains(t, fmt.Sprintf(verb, h), value, verb)
		assert.NotContains(t, fmt.Sprintf(verb, h), fmt.Sprintf("%x", value), verb)
	}
	raw, err := json.Marshal(h)
	require.NoError(t, err)
	assert.NotContains(t, string(raw), value)
	var log bytes.Buffer
	for _, handler := range []slog.Handler{slog.NewTextHandler(&log, nil), slog.NewJSONHandler(&log, nil)} {
		slog.New(handler).Info("m", "secret", s, "holder", h, "list", []Secret{s}, "ptr", &s)
	}
	assert.NotContains(t, log.String(), value)
	assert.Equal(t, value, s.Reveal())
	assert.True(t, Secret{}.Empty())
}

func TestReadTokenForgivesAndExplains(t *testing.T) {
	t.Parallel()
	for in, want := range map[string]string{
		"skf-1": "skf-1", "  skf-1\r\n": "skf-1", `"skf-1"`: "skf-1", "'skf-1' ": "skf-1", "Bearer skf-1": "skf-1", "bearer Bearer  skf-1": "skf-1", `"Bearer skf-1"`: "skf-1",
	} {
		s, err := ReadToken(in)
		require.NoError(t, err, in)
		assert.Equal(t, want, s.Reveal(), in)
	}
	for in, why := range map[string]string{
		"": "is empty", "  ": "is empty", `""`: "is empty", "${TOKEN}": "placeholder", "<your token>": "placeholder", "two words": "blank or a line break", "a\nb": "blank or a line break",
		"tökén": "no HTTP header", string(make([]byte, MaxToken+1)): "longer than",
	} {
		_, err := ReadToken(in)
		require.Error(t, err, in)
		assert.Contains(t, err.Error(), why, in)
	}
	_, err := ReadToken("my secret value")
	assert.NotContains(t, err.Error(), "secret value", "the error must not repeat what was given")
}
