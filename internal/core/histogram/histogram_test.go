package histogram

import (
	"encoding/binary"
	"math"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Quantiles are told to within ten percent, of what was added up as of what was counted.
func TestQuantiles(t *testing.T) {
	t.Parallel()
	var whole, even, odd Histogram
	for us := int64(1); us <= 100_000; us++ {
		whole.Add(us)
		if us%2 == 0 {
			even.Add(us)
		} else {
			odd.Add(us)
		}
	}
	for q, want := range map[float64]float64{0.5: 50_000, 0.95: 95_000, 0.99: 99_000, 0.01: 1_000, 1: 100_000} {
		assert.InEpsilon(t, want, whole.Quantile(q), 0.1, "%v", q)
	}
	even.Merge(odd)
	assert.Equal(t, whole, even)
	assert.EqualValues(t, 100_000, whole.Total())
	assert.Zero(t, Histogram{}.Quantile(0.5))
	var few Histogram
	few.Add(0)
	few.Add(-5)
	few.Add(math.MaxInt64)
	assert.Zero(t, few.Quantile(0.5))
	assert.Greater(t, few.Quantile(1), 1e11)
	assert.Equal(t, few.Quantile(0), few.Quantile(-3))
	assert.Equal(t, few.Quantile(1), few.Quantile(7))
}

// What is written is read as it was; what is none says so.
func TestEncoding(t *testing.T) {
	t.Parallel()
	var h Histogram
	for us := int64(1); us < 1<<40; us *= 3 {
		h.Add(us)
		h.Add(us)
	}
	back, err := Decode(h.Encode())
	require.NoError(t, err)
	assert.Equal(t, h, back)
	empty, err := Decode(nil)
	require.NoError(t, err)
	assert.Zero(t, empty.Total())
	for _, wrong := range [][]byte{{1}, {1, 0}, {0xff}, {200, 2, 1}, {1, 0x80}, {160, 1, 1, 1, 1}} {
		_, err := Decode(wrong)
		assert.ErrorIs(t, err, ErrMalformed, "%v", wrong)
	}
}

// The ends of what can be counted belong to it.
func TestTheEndsAreCounted(t *testing.T) {
	t.Parallel()
	var one Histogram
	one.Add(1)
	assert.Positive(t, one.Quantile(1), "a microsecond is a length")
	last, err := Decode([]byte{0xa0, 1, 7})
	require.NoError(t, err)
	assert.EqualValues(t, 7, last.Total())
	var longest Histogram
	for range 7 {
		longest.Add(math.MaxInt64)
	}
	assert.Equal(t, longest, last)
	most := append([]byte{1}, binary.AppendUvarint(nil, math.MaxUint64)...)
	full, err := Decode(most)
	require.NoError(t, err)
	assert.EqualValues(t, uint64(math.MaxUint64), full.Total())
	_, err = Decode(append(most, 1, 1))
	assert.ErrorIs(t, err, ErrMalformed, "more than can be counted")
}

func FuzzDecode(f *testing.F) {
	f.Add([]byte{1, 1, 2, 5})
	f.Fuzz(func(t *testing.T, raw []byte) {
		h, err := Decode(raw)
		if err != nil {
			return
		}
		again, err := Decode(h.Encode())
		require.NoError(t, err)
		assert.Equal(t, h.Total(), again.Total())
	})
}
