package token

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestTokensAreLongAndDiffer(t *testing.T) {
	t.Parallel()
	a, b := New(PassPrefix), New(PassPrefix)
	assert.NotEqual(t, a, b)
	assert.Len(t, a, len(PassPrefix)+43)
	assert.NotEqual(t, Hash(a), Hash(b))
}
