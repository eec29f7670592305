package signin

import (
	"context"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestPasswords(t *testing.T) {
	p := NewPasswords()
	hash, err := p.Hash(t.Context(), "seven tides turning")
	require.NoError(t, err)
	assert.True(t, strings.HasPrefix(hash, "$argon2id$v=19$m=65536,t=3,p=4$"))
	for password, want := range map[string]bool{"seven tides turning": true, "seven tides turnin": false, "": false, strings.Repeat("x", 5000): false} {
		ok, err := p.Verify(t.Context(), password, hash)
		require.NoError(t, err)
		assert.Equal(t, want, ok, password)
	}
	for _, broken := range []string{"", "plain", "$argon2id$v=19$m=65536,t=3,p=4$x$y", strings.Replace(hash, "argon2id", "argon2i", 1)} {
		ok, err := p.Verify(t.Context(), "", broken)
		require.NoError(t, err)
		assert.False(t, ok, "a hash that cannot be read lets nobody in")
	}
	gone, cancel := context.WithCancel(t.Context())
	cancel()
	p.slots <- struct{}{}
	p.slots <- struct{}{}
	_, err = p.Verify(gone, "x", hash)
	assert.ErrorIs(t, err, context.Canceled, "whoever has left does not wait for a turn")
}

func TestCheckPassword(t *testing.T) {
	for password, why := range map[string]string{"short": "shorter", strings.Repeat("x", 201): "longer", "i-am-MARIT-really": "contains the name", "seven-tides-turning": ""} {
		err := CheckPassword("marit", password)
		if why == "" {
			assert.NoError(t, err)
			continue
		}
		assert.ErrorContains(t, err, why)
	}
}

func TestBrakeSlowsGuessing(t *testing.T) {
	now := time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC)
	b := NewBrake(func() time.Time { return now })
	for range FreeByName - 1 {
		b.Failed("marit", FreeByName)
	}
	assert.Zero(t, b.Wait("marit"), "a few slips are free")
	last := time.Duration(0)
	for range 30 {
		b.Failed("marit", FreeByName)
		require.GreaterOrEqual(t, b.Wait("marit"), last, "waits only grow")
		last = b.Wait("marit")
	}
	assert.Equal(t, maxWait, last, "and are bounded")
	assert.Zero(t, b.Wait("joss"), "others are not concerned")
	now = now.Add(maxWait)
	assert.Zero(t, b.Wait("marit"))
	b.Passed("marit")
	b.Failed("marit", FreeByName)
	assert.Zero(t, b.Wait("marit"), "a success forgets the failures")
	for i := range maxTracked + 100 {
		b.Failed(time.Duration(i).String(), FreeByName)
	}
	assert.LessOrEqual(t, len(b.seen), maxTracked)
}

func TestTokensAreLongAndDiffer(t *testing.T) {
	a, b := NewToken(PassPrefix), NewToken(PassPrefix)
	assert.NotEqual(t, a, b)
	assert.Len(t, a, len(PassPrefix)+43)
	assert.NotEqual(t, Hash(a), Hash(b))
}
