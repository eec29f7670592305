package mux

import (
	"context"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bouncer/internal/core/diagnosis"
	"bouncer/internal/link"
	"bouncer/internal/link/internal/base"
)

// The call that a too long answer was for is told at once, wherever the id stands.
func TestATooLongAnswerFindsItsCall(t *testing.T) {
	t.Parallel()
	for name, row := range map[string]struct {
		head, tail string // %d is the id
		others     bool
		told       bool
	}{
		"the id first":          {`{"jsonrpc":"2.0","id":%d,"result":{"content":[`, `]}}`, true, true},
		"the id at the start":   {`{ "id" : %d , "result":{`, `}}`, true, true},
		"the id last":           {`{"result":{"content":[{"type":"text","text":"`, `"}]},"jsonrpc":"2.0","id":%d}`, true, true},
		"the id before another": {`{"result":{`, `},"id":%d,"jsonrpc":"2.0"}` + "\n", true, true},
		"in a text only":        {`{"result":{"text":"`, `\"id\":%d} "},"jsonrpc":"2.0"}`, true, false},
		"of something inside":   {`{"result":{"item":{"id":%d,"x":`, `}}`, true, false},
		"nowhere, alone":        {`{"result":{`, `}}`, false, true},
	} {
		m := New(base.New("berths", link.Options{}), func(context.Context, []byte) error { return nil })
		wanted, err := m.Begin(t.Context(), base.NewRequest("tools/call", nil, "call"), nil)
		require.NoError(t, err)
		var other link.Exchange
		if row.others {
			other, err = m.Begin(t.Context(), base.NewRequest("tools/call", nil, "call"), nil)
			require.NoError(t, err)
		}
		fill := func(s string) []byte { return []byte(strings.ReplaceAll(s, "%d", strconv.FormatUint(wanted.ID(), 10))) }
		m.TooLarge(fill(row.head), fill(row.tail), 1000)
		assert.Equal(t, map[bool]int{true: 1, false: 0}[row.told], len(wanted.(*exchange).frames), name)
		if other != nil {
			assert.Empty(t, other.(*exchange).frames, name)
		}
		if row.told {
			_, _, err := wanted.Next()
			var f *link.Failure
			require.ErrorAs(t, err, &f, name)
			assert.Equal(t, diagnosis.TooLarge, f.Cause)
			assert.Contains(t, f.Finding.Message, "1000 bytes")
		}
	}
}
