package pack

import (
	"bytes"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestMessagesComeBackWithinABound(t *testing.T) {
	t.Parallel()
	for _, raw := range [][]byte{nil, []byte("tide"), bytes.Repeat([]byte("tide"), 1<<20)} {
		back, err := Unpack(Pack(raw))
		require.NoError(t, err)
		assert.True(t, bytes.Equal(raw, back))
	}
	_, err := Unpack([]byte("not packed"))
	require.ErrorContains(t, err, "unpack a message")
	_, err = Unpack(Pack(make([]byte, Max+1)))
	assert.Error(t, err, "a small message does not become too large a one")
}
