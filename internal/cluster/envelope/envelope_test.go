package envelope

import (
	"bytes"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What is sealed opens with the same key for the same purpose, and whatever was altered does not.
func TestSealedIsSealed(t *testing.T) {
	t.Parallel()
	key := bytes.Repeat([]byte{7}, 32)
	s, err := New(key)
	require.NoError(t, err)
	raw, err := s.Seal(map[string]string{"pass": "bnp_canary"}, "north")
	require.NoError(t, err)
	again, err := s.Seal(map[string]string{"pass": "bnp_canary"}, "north")
	require.NoError(t, err)
	assert.NotEqual(t, raw, again, "who sees two cannot tell that they are the same")
	assert.NotContains(t, string(raw), "canary")
	var got map[string]string
	require.NoError(t, s.Open(raw, "north", &got))
	assert.Equal(t, "bnp_canary", got["pass"])

	var none map[string]string
	require.ErrorContains(t, s.Open(raw, "south", &none), "from nobody")
	other, err := New(bytes.Repeat([]byte{8}, 32))
	require.NoError(t, err)
	require.ErrorContains(t, other.Open(raw, "north", &none), "from nobody")
	for i := range raw {
		forged := bytes.Clone(raw)
		forged[i] ^= 1
		require.Error(t, s.Open(forged, "north", &none))
		require.Error(t, s.Open(raw[:i], "north", &none))
	}
	assert.Empty(t, none)
	list, err := s.Seal([]int{1}, "north")
	require.NoError(t, err)
	require.ErrorContains(t, s.Open(list, "north", &none), "damaged")
	_, err = New(key[:5])
	require.Error(t, err)
	_, err = s.Seal(func() {}, "")
	require.Error(t, err)
}
