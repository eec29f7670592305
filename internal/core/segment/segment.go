// Package segment writes many calls as one block, and reads them again. A block has two
// parts: the head, with what lists, counts and filters need of each call, and the body, with
// arguments and results. Beside them stand two summaries by which a search passes over a
// block without reading it: which names occur, and which three letters follow each other.
package segment

import (
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"sync"

	"github.com/klauspost/compress/zstd"

	"bouncer/internal/core/team"
)

// Record is a call with its place in the journal, and the number of the seal that it was
// committed under; 0 for none.
type Record struct {
	Key  Key
	Seal int64
	team.Call
}

// Segment is a block of calls, as it is kept.
type Segment struct {
	First, Last Key
	Records     int
	Low, High   int64 // seals; those of the records are counted from the lowest on
	Head, Body  []byte
	Facts       []byte // which names occur; nil when it is not closed
	Words       []byte // which letters; nil when it is not closed
}

// Limits of a block that is closed: so many records, or so many bytes of arguments and
// results. Reading it takes so much room.
const (
	MaxRecords = 1024
	MaxBytes   = 1 << 20
)

// maxDecoded bounds what a block that is read can grow to, in bytes.
const maxDecoded = 256 << 20

// ErrDamaged is returned for what is no block.
var ErrDamaged = errors.New("the block holds something else than was written there")

// How a part is kept.
const (
	plain byte = iota
	compressed
)

var (
	encoder = sync.OnceValue(func() *zstd.Encoder {
		e, err := zstd.NewWriter(nil, zstd.WithEncoderLevel(zstd.SpeedFastest), zstd.WithEncoderConcurrency(2), zstd.WithEncoderCRC(false))
		if err != nil {
			panic(err) // only for options that do not exist
		}
		return e
	})
	decoder = sync.OnceValue(func() *zstd.Decoder {
		d, err := zstd.NewReader(nil, zstd.WithDecoderConcurrency(0), zstd.WithDecoderMaxMemory(maxDecoded))
		if err != nil {
			panic(err)
		}
		return d
	})
)

func pack(raw []byte, closed bool) []byte {
	if !closed {
		return append([]byte{plain}, raw...)
	}
	return encoder().EncodeAll(raw, append(make([]byte, 0, len(raw)/4+64), compressed))
}

func unpack(kept []byte) ([]byte, error) {
	switch {
	case len(kept) == 0:
		return nil, ErrDamaged
	case kept[0] == plain:
		return kept[1:], nil
	case kept[0] == compressed:
		raw, err := decoder().DecodeAll(kept[1:], nil)
		if err != nil {
			return nil, fmt.Errorf("%w: %w", ErrDamaged, err)
		}
		return raw, nil
	}
	return nil, ErrDamaged
}

// Size is how many bytes of arguments and results records have.
func Size(records []Record) (n int) {
	for i := range records {
		n += len(records[i].Arguments) + len(records[i].Result)
	}
	return n
}

// Sorted is records in the order of their keys.
func Sorted(records []Record) []Record {
	byKey := func(a, b Record) int { return int(min(max(a.Key-b.Key, -1), 1)) }
	if slices.IsSortedFunc(records, byKey) {
		return records
	}
	records = slices.Clone(records)
	slices.SortStableFunc(records, byKey)
	return records
}

// Write makes a block of records, which are at least one and in the order of their keys.
// One that is not closed is to become part of a larger one soon: it is neither compressed
// nor summed up.
func Write(records []Record, closed bool) Segment {
	s := Segment{
		First: records[0].Key, Last: records[len(records)-1].Key, Records: len(records), Low: records[0].Seal, High: records[0].Seal,
	}
	for i := range records {
		s.Low, s.High = min(s.Low, records[i].Seal), max(s.High, records[i].Seal)
	}
	s.Head = pack(appendHead(make([]byte, 0, 64*len(records)), records, s.Low), closed)
	body := make([]byte, 0, Size(records)+6*len(records))
	for i := range records {
		body = appendText(appendText(body, records[i].Arguments), records[i].Result)
	}
	s.Body = pack(body, closed)
	if closed {
		s.Facts, s.Words = factsOf(records), wordsOf(records)
	}
	return s
}

func appendText(b []byte, text string) []byte {
	return append(binary.AppendUvarint(b, uint64(len(text))), text...)
}

// columns is how many texts a record has in its head; equal ones are written once.
const columns = 10

// texts are the columns of a record.
func texts(r *Record) [columns]string {
	return [columns]string{
		r.Agent, r.Person, r.Server, r.Tool, r.Decision, r.Rule, r.Outcome, r.Session, r.Error, WriteControl(r.Control),
	}
}

// WriteControl writes what rules had to do with a call; most calls have nothing of it.
func WriteControl(c *team.CallControl) string {
	if c == nil {
		return ""
	}
	// Texts and numbers cannot fail to be written.
	raw, _ := json.Marshal(c)
	return string(raw)
}

// appendHead writes the number of records, their texts, and then each record: how far its
// key and its seal are from the one before, which texts it has, and its numbers.
func appendHead(b []byte, records []Record, low int64) []byte {
	index := map[string]uint64{}
	var list []string
	rows := make([]byte, 0, 48*len(records))
	var key Key
	seal := low
	for i := range records {
		r := &records[i]
		rows = binary.AppendUvarint(rows, uint64(r.Key-key))
		rows = binary.AppendVarint(rows, r.Seal-seal)
		key, seal = r.Key, r.Seal
		for _, text := range texts(r) {
			at, known := index[text]
			if !known {
				at = uint64(len(list))
				index[text], list = at, append(list, text)
			}
			rows = binary.AppendUvarint(rows, at)
		}
		cut := uint64(0)
		if r.Cut {
			cut = 1
		}
		for _, n := range [...]uint64{uint64(r.Micros), uint64(r.BytesIn), uint64(r.BytesOut), uint64(max(r.Times, 1))<<1 | cut} {
			rows = binary.AppendUvarint(rows, n)
		}
	}
	b = binary.AppendUvarint(b, uint64(len(records)))
	b = binary.AppendUvarint(b, uint64(len(list)))
	for _, text := range list {
		b = appendText(b, text)
	}
	return append(b, rows...)
}

// reader reads numbers and texts; after what does not fit it is broken.
type reader struct {
	b      []byte
	broken bool
}

func (r *reader) number() uint64 {
	n, size := binary.Uvarint(r.b)
	if size <= 0 {
		r.broken, r.b = true, nil
		return 0
	}
	r.b = r.b[size:]
	return n
}

func (r *reader) signed() int64 {
	n, size := binary.Varint(r.b)
	if size <= 0 {
		r.broken, r.b = true, nil
		return 0
	}
	r.b = r.b[size:]
	return n
}

func (r *reader) text() string {
	n := r.number()
	if n > uint64(len(r.b)) {
		r.broken, r.b = true, nil
		return ""
	}
	text := string(r.b[:n])
	r.b = r.b[n:]
	return text
}

// count is how many things follow, of which each takes a byte or more.
func (r *reader) count() int {
	n := r.number()
	if n > uint64(len(r.b)) {
		r.broken = true
		return 0
	}
	return int(n)
}

// ReadHead reads the records of a head, without arguments and results; low is the lowest of
// their seals.
func ReadHead(head []byte, low int64) ([]Record, error) {
	raw, err := unpack(head)
	if err != nil {
		return nil, err
	}
	r := reader{b: raw}
	records := make([]Record, r.count())
	list := make([]string, r.count())
	for i := range list {
		list[i] = r.text()
	}
	controls := make(map[string]*team.CallControl, 1)
	var key Key
	seal := low
	for i := range records {
		v := &records[i]
		key += Key(r.number())
		seal += r.signed()
		v.Key, v.Seal = key, seal
		var control string
		for _, to := range [columns]*string{
			&v.Agent, &v.Person, &v.Server, &v.Tool, &v.Decision, &v.Rule, &v.Outcome, &v.Session, &v.Error, &control,
		} {
			at := r.number()
			if at >= uint64(len(list)) {
				return nil, ErrDamaged
			}
			*to = list[at]
		}
		v.Micros, v.BytesIn, v.BytesOut = int64(r.number()), int(r.number()), int(r.number())
		last := r.number()
		v.Cut, v.Times = last&1 == 1, int(last>>1)
		v.ID, v.At = "", key.Time()
		if control != "" {
			if v.Control, err = readControl(controls, control); err != nil {
				return nil, err
			}
		}
	}
	if r.broken || len(r.b) > 0 || len(records) == 0 {
		return nil, ErrDamaged
	}
	return records, nil
}

func readControl(known map[string]*team.CallControl, text string) (*team.CallControl, error) {
	if c := known[text]; c != nil {
		return c, nil
	}
	c := &team.CallControl{}
	if err := json.Unmarshal([]byte(text), c); err != nil {
		return nil, fmt.Errorf("%w: %w", ErrDamaged, err)
	}
	known[text] = c
	return c, nil
}

// ReadBody adds arguments and results to the records of the same block's head.
func ReadBody(body []byte, records []Record) error {
	raw, err := unpack(body)
	if err != nil {
		return err
	}
	r := reader{b: raw}
	for i := range records {
		records[i].Arguments, records[i].Result = r.text(), r.text()
	}
	if r.broken || len(r.b) > 0 {
		return ErrDamaged
	}
	return nil
}

// WithTimes is a head in which other counts of repetition stand, by key, and its summary of
// names; nil for one that has none. The rest stays as it was.
func WithTimes(head []byte, closed bool, times map[Key]int) (changed, facts []byte, err error) {
	records, err := ReadHead(head, 0)
	if err != nil {
		return nil, nil, err
	}
	for i := range records {
		if n, known := times[records[i].Key]; known {
			records[i].Times = n
		}
	}
	if closed {
		facts = factsOf(records)
	}
	return pack(appendHead(nil, records, 0), closed), facts, nil
}
