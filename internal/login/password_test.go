package login

import (
	"context"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestPasswords(t *testing.T) {
	t.Parallel()
	p := NewPasswords(Cost{})
	hash, err := p.Hash(t.Context(), "seven tides turning", "")
	require.NoError(t, err)
	assert.True(t, strings.HasPrefix(hash, "$argon2id$v=19$m=65536,t=3,p=4$"))
	for password, want := range map[string]bool{"seven tides turning": true, "seven tides turnin": false, "": false, strings.Repeat("x", 5000): false} {
		ok, err := p.Verify(t.Context(), password, hash, "")
		require.NoError(t, err)
		assert.Equal(t, want, ok, password)
	}
	for _, broken := range []string{"", "plain", "$argon2id$v=19$m=65536,t=3,p=4$x$y", strings.Replace(hash, "argon2id", "argon2i", 1)} {
		ok, err := p.Verify(t.Context(), "", broken, "")
		require.NoError(t, err)
		assert.False(t, ok, "a hash that cannot be read lets nobody in")
	}
	gone, cancel := context.WithCancel(t.Context())
	cancel()
	for range hashesAtOnce {
		leave, err := p.queue.Enter(t.Context(), "")
		require.NoError(t, err)
		defer leave()
	}
	_, err = p.Verify(gone, "x", hash, "")
	assert.ErrorIs(t, err, context.Canceled, "whoever has left does not wait for a turn")
}

func TestCheckPassword(t *testing.T) {
	t.Parallel()
	for password, why := range map[string]string{"short": "shorter", strings.Repeat("x", 201): "longer", "i-am-MARIT-really": "contains the name", "seven-tides-turning": ""} {
		err := CheckPassword("marit", password)
		if why == "" {
			assert.NoError(t, err)
			continue
		}
		assert.ErrorContains(t, err, why)
	}
}
