package calls

import (
	"database/sql"
	"path/filepath"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bouncer/internal/core/segment"
	"bouncer/internal/core/team"
	"bouncer/internal/store"
)

// Of blocks in which nothing can be found no call is read, over however many connections that is
// looked up, and whatever blocks are asked about.
func TestBlocksArePassedOver(t *testing.T) {
	t.Parallel()
	s, err := store.Open(t.Context(), filepath.Join(t.TempDir(), "b.db"), store.Options{})
	require.NoError(t, err)
	t.Cleanup(func() { _ = s.Close() })
	w := NewWriter(s)
	const blocks = 40
	for i := range blocks {
		call := team.Call{Agent: "quill", Tool: "announce", Arguments: "the tide is low"}
		switch i % 8 {
		case 3:
			call.Arguments = "fog over Holm Voe"
		case 5:
			call.Agent = "voice"
		}
		list := make([]Record, closedRecords)
		for j := range list {
			list[j] = Record{Key: Key((i*len(list) + j + 1) << 16), Call: call}
		}
		require.NoError(t, w.Append(t.Context(), list))
	}
	for name, row := range map[string]struct {
		filter segment.Filter
		hit    int // the remainder of blocks in which it is
	}{
		"a text":  {segment.Filter{Text: "holm voe"}, 3},
		"a name":  {segment.Filter{Agent: "voice"}, 5},
		"both":    {segment.Filter{Agent: "voice", Text: "tide is"}, 5},
		"nothing": {segment.Filter{Agent: "voice", Text: "holm voe"}, -1},
	} {
		for lanes := 1; lanes <= 3; lanes++ {
			for _, only := range []int{1, 2, 13} { // every block, every other, few that lie apart
				list, want := marked(t, w, &row.filter, lanes, only, row.hit)
				assert.Equal(t, want, list, "%s, over %d connections, every %d", name, lanes, only)
			}
		}
	}
	assert.True(t, newPasser(&segment.Filter{}).idle())
	assert.False(t, newPasser(&segment.Filter{Agent: "voice"}).idle())
	assert.False(t, newPasser(&segment.Filter{Text: "holm voe"}).idle())
}

// marked returns which of the blocks are not passed over, and which should not be.
func marked(t *testing.T, w *Writer, f *segment.Filter, lanes, only, hit int) (got, want []int) {
	p := newPasser(f)
	defer p.close()
	var list []block
	var look func(lane int) error
	look = func(lane int) error {
		return w.part.View(t.Context(), func(tx *sql.Tx) error {
			if err := p.over(t.Context(), tx); err != nil {
				return err
			}
			if lane < lanes {
				return look(lane + 1)
			}
			list = blocksOf(t, tx)
			for i := range list {
				list[i].skip = i%only != 0
			}
			slices.Reverse(list) // newest first, as most searches go
			return p.mark(list)
		})
	}
	require.NoError(t, look(1))
	slices.Reverse(list)
	for i := range list {
		if !list[i].skip {
			got = append(got, i)
		}
		if i%only == 0 && i%8 == hit {
			want = append(want, i)
		}
	}
	return got, want
}

func blocksOf(t *testing.T, tx *sql.Tx) (list []block) {
	rows, err := tx.QueryContext(t.Context(), `SELECT id FROM segments ORDER BY id`)
	require.NoError(t, err)
	defer rows.Close()
	for rows.Next() {
		var b block
		require.NoError(t, rows.Scan(&b.id))
		list = append(list, b)
	}
	require.NoError(t, rows.Err())
	return list
}
