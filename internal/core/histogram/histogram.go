// Package histogram counts lengths of time in steps that grow with them, so that quantiles
// of any number of calls take little room and can be added up: four steps for each
// doubling, which tells a quantile to within ten percent.
package histogram

import (
	"encoding/binary"
	"errors"
	"math"
	"slices"
)

// perDoubling is how many steps there are from a length to its double, and maxStep the
// last one, beyond any length that is worth telling apart.
const (
	perDoubling = 4
	maxStep     = 40 * perDoubling
)

// Histogram counts lengths of time. The zero value is empty and ready.
type Histogram struct {
	counts map[int]uint64
	total  uint64
}

// step is where a length in microseconds is counted: 0 for none at all.
func step(us int64) int {
	if us < 1 {
		return 0
	}
	return min(maxStep, 1+int(math.Log2(float64(us))*perDoubling))
}

// Add counts a length, in microseconds.
func (h *Histogram) Add(us int64) { h.add(step(us), 1) }

func (h *Histogram) add(at int, n uint64) {
	if h.counts == nil {
		h.counts = map[int]uint64{}
	}
	h.counts[at] += n
	h.total += n
}

// Merge adds what another one has counted.
func (h *Histogram) Merge(o Histogram) {
	for at, n := range o.counts {
		h.add(at, n)
	}
}

// Total is how many lengths were counted.
func (h Histogram) Total() uint64 { return h.total }

// Quantile is the length in microseconds that a part q of all, from 0 to 1, are not longer
// than; 0 when nothing was counted.
func (h Histogram) Quantile(q float64) float64 {
	if h.total == 0 {
		return 0
	}
	want := uint64(math.Ceil(min(1, max(0, q)) * float64(h.total)))
	var seen uint64
	for _, at := range h.steps() {
		if seen += h.counts[at]; seen >= max(1, want) {
			return middle(at)
		}
	}
	return 0
}

// middle is a length in the middle of a step, in microseconds.
func middle(at int) float64 {
	if at == 0 {
		return 0
	}
	return math.Exp2((float64(at-1) + 0.5) / perDoubling)
}

func (h Histogram) steps() []int {
	out := make([]int, 0, len(h.counts))
	for at := range h.counts {
		out = append(out, at)
	}
	slices.Sort(out)
	return out
}

// Encode writes a histogram: pairs of a step, as the distance from the one before, and its
// count, as unsigned varints.
func (h Histogram) Encode() []byte {
	out := []byte{} // and not nil, which databases tell apart
	before := 0
	for _, at := range h.steps() {
		out = binary.AppendUvarint(out, uint64(at-before))
		out = binary.AppendUvarint(out, h.counts[at])
		before = at
	}
	return out
}

// ErrMalformed says that bytes are no histogram.
var ErrMalformed = errors.New("these bytes are no histogram")

// Decode reads what Encode wrote.
func Decode(raw []byte) (h Histogram, err error) {
	at := 0
	for len(raw) > 0 {
		distance, n := binary.Uvarint(raw)
		if n <= 0 || distance > maxStep {
			return Histogram{}, ErrMalformed
		}
		count, m := binary.Uvarint(raw[n:])
		if at += int(distance); m <= 0 || at > maxStep || count == 0 || math.MaxUint64-h.total < count {
			return Histogram{}, ErrMalformed
		}
		h.add(at, count)
		raw = raw[n+m:]
	}
	return h, nil
}
