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

// mostRecords is more than any block has, whoever wrote it: it bounds what is made for one that
// is damaged.
const mostRecords = 1 << 20

// maxDecoded bounds what a block that is read can grow to, in bytes.
const maxDecoded = 256 << 20

// ErrDamaged is returned for what is no block.
var ErrDamaged = errors.New("the block holds something else than was written there")

// How a part is kept.
const (
	plain      byte = iota
	compressed      // as a whole
	apart           // each column by itself, so that a search opens those alone that it asks for
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

// tiny is so short that compressing it makes it no shorter, in bytes.
const tiny = 48

// packColumn compresses a column, where that makes it shorter.
func packColumn(raw []byte) []byte {
	if len(raw) < tiny {
		return pack(raw, false)
	}
	if packed := pack(raw, true); len(packed) <= len(raw) {
		return packed
	}
	return pack(raw, false)
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
	s.Head = writeHead(records, s.Low, closed)
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

// The columns of texts, in their order.
const (
	inAgent = iota
	inPerson
	inServer
	inTool
	inDecision
	inRule
	inOutcome
	inSession
	inError
	inControl
)

// The columns of numbers, in their order.
const (
	inKey = iota
	inSeal
	inMicros
	inBytesIn
	inBytesOut
	inTimes // doubled, and one more when something was cut
	numbers
)

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

// writeHead writes the number of records and then their columns, each behind its length:
// of texts those that there are, and for each record which; of numbers how far each is from
// the one before where they grow. A column that is not asked for is passed over.
func writeHead(records []Record, low int64, closed bool) []byte {
	b := append(make([]byte, 0, 64*len(records)), plain)
	keep := func(column []byte) []byte { return column }
	if closed {
		b[0], keep = apart, packColumn
	}
	b = binary.AppendUvarint(b, uint64(len(records)))
	add := func(column []byte) {
		kept := keep(column)
		b = append(binary.AppendUvarint(b, uint64(len(kept))), kept...)
	}
	var column []byte
	all := make([][columns]string, len(records))
	for i := range records {
		all[i] = texts(&records[i])
	}
	for c := range columns {
		column = appendTexts(column[:0], all, c)
		add(column)
	}
	for c := range numbers {
		column = column[:0]
		key, seal := Key(0), low
		for i := range records {
			r := &records[i]
			switch c {
			case inKey:
				column = binary.AppendUvarint(column, uint64(r.Key-key))
				key = r.Key
			case inSeal:
				column = binary.AppendVarint(column, r.Seal-seal)
				seal = r.Seal
			case inMicros:
				column = binary.AppendUvarint(column, uint64(r.Micros))
			case inBytesIn:
				column = binary.AppendUvarint(column, uint64(r.BytesIn))
			case inBytesOut:
				column = binary.AppendUvarint(column, uint64(r.BytesOut))
			case inTimes:
				cut := uint64(0)
				if r.Cut {
					cut = 1
				}
				column = binary.AppendUvarint(column, uint64(max(r.Times, 1))<<1|cut)
			}
		}
		add(column)
	}
	return b
}

// appendTexts writes a column of texts: each once, and for each record a byte, or two when
// there are many.
func appendTexts(b []byte, all [][columns]string, c int) []byte {
	index := make(map[string]int, 16)
	var list []string
	last, at := "", 0
	places := make([]int, len(all))
	for i := range all {
		text := all[i][c]
		if i == 0 || text != last {
			known := false
			if at, known = index[text]; !known {
				at = len(list)
				index[text], list = at, append(list, text)
			}
			last = text
		}
		places[i] = at
	}
	b = binary.AppendUvarint(b, uint64(len(list)))
	for _, text := range list {
		b = appendText(b, text)
	}
	for _, at := range places {
		if len(list) > wide {
			b = append(b, byte(at>>8))
		}
		b = append(b, byte(at))
	}
	return b
}

// wide is how many texts a column can have for which a byte is enough.
const wide = 256

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

func (r *reader) text() string { return string(r.bytes()) }

// bytes are a part behind its length.
func (r *reader) bytes() []byte {
	n := r.number()
	if n > uint64(len(r.b)) {
		r.broken, r.b = true, nil
		return nil
	}
	part := r.b[:n]
	r.b = r.b[n:]
	return part
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

// Head is a head that is being read. It is not for concurrent use.
type Head struct {
	n       int
	low     int64
	texts   [columns][]byte
	numbers [numbers][]byte
	packed  [columns + numbers]bool // as they are kept
}

// OpenHead begins to read a head; low is the lowest of its seals.
func OpenHead(head []byte, low int64) (*Head, error) {
	each := len(head) > 0 && head[0] == apart
	raw := head[min(len(head), 1):]
	if !each {
		var err error
		if raw, err = unpack(head); err != nil {
			return nil, err
		}
	}
	r := reader{b: raw}
	n := r.number()
	if n > mostRecords {
		return nil, ErrDamaged
	}
	h := &Head{n: int(n), low: low}
	for c := range h.texts {
		h.texts[c], h.packed[c] = r.bytes(), each
	}
	for c := range h.numbers {
		h.numbers[c], h.packed[columns+c] = r.bytes(), each
	}
	if r.broken || h.n == 0 || len(r.b) > 0 {
		return nil, ErrDamaged
	}
	return h, nil
}

// text is a column of texts, as it was written.
func (h *Head) text(c int) ([]byte, error) { return h.unpacked(&h.texts[c], &h.packed[c]) }

// number is a column of numbers, as it was written.
func (h *Head) number(c int) ([]byte, error) { return h.unpacked(&h.numbers[c], &h.packed[columns+c]) }

func (h *Head) unpacked(column *[]byte, packed *bool) ([]byte, error) {
	if *packed {
		raw, err := unpack(*column)
		if err != nil {
			return nil, err
		}
		*column, *packed = raw, false
	}
	return *column, nil
}

// column is a column of texts that is read.
type column struct {
	list   []string
	places []byte
	size   int // bytes of a place
}

// column reads a column of texts.
func (h *Head) column(c int) (out column, err error) {
	raw, err := h.text(c)
	if err != nil {
		return out, err
	}
	r := reader{b: raw}
	out.list = make([]string, r.count())
	for i := range out.list {
		out.list[i] = r.text()
	}
	out.places, out.size = r.b, 1
	if len(out.list) > wide {
		out.size = 2
	}
	if r.broken || len(out.places) != h.n*out.size {
		return out, ErrDamaged
	}
	return out, nil
}

// at is which of the texts a record has.
func (c *column) at(record int) int {
	if c.size == 1 {
		return int(c.places[record])
	}
	return int(c.places[2*record])<<8 | int(c.places[2*record+1])
}

// ReadHead reads the records of a head, without arguments and results; low is the lowest of
// their seals.
func ReadHead(head []byte, low int64) ([]Record, error) {
	h, err := OpenHead(head, low)
	if err != nil {
		return nil, err
	}
	records, _, err := h.Select(&Filter{})
	return records, err
}

// Select reads the records that a filter selects by all but its texts, and their places in
// the block. Nothing else is made a record of.
func (h *Head) Select(f *Filter) (records []Record, places []int, err error) {
	if places, err = h.Choose(f); err != nil {
		return nil, nil, err
	}
	records, err = h.Records(places)
	return records, places, err
}

// Choose returns the places of the records that a filter selects by all but its texts, in
// ascending order.
func (h *Head) Choose(f *Filter) (places []int, err error) {
	chosen, err := h.choose(f)
	if err != nil || chosen == nil {
		return nil, err
	}
	from, to := f.Range()
	keys, err := h.number(inKey)
	if err != nil {
		return nil, err
	}
	r, key := reader{b: keys}, Key(0)
	places = make([]int, 0, h.n)
	for i, is := range chosen {
		key += Key(r.number())
		if is && key >= from && key <= to {
			places = append(places, i)
		}
	}
	if r.broken || len(r.b) > 0 {
		return nil, ErrDamaged
	}
	return places, nil
}

// Records reads the records at some places, in ascending order.
func (h *Head) Records(places []int) ([]Record, error) {
	if len(places) == 0 {
		return nil, nil
	}
	records := make([]Record, len(places))
	if err := h.addNumbers(records, places); err != nil {
		return nil, err
	}
	return records, h.addTexts(records, places)
}

// addNumbers adds the numbers to records at their places.
func (h *Head) addNumbers(records []Record, places []int) error {
	for c := range numbers {
		column, err := h.number(c)
		if err != nil {
			return err
		}
		r, key, seal, next := reader{b: column}, Key(0), h.low, 0
		for i := range h.n {
			var n uint64
			switch c {
			case inKey:
				key += Key(r.number())
			case inSeal:
				seal += r.signed()
			default:
				n = r.number()
			}
			if next == len(places) || places[next] != i {
				continue
			}
			v := &records[next]
			next++
			switch c {
			case inKey:
				v.Key, v.At = key, key.Time()
			case inSeal:
				v.Seal = seal
			case inMicros:
				v.Micros = int64(n)
			case inBytesIn:
				v.BytesIn = int(n)
			case inBytesOut:
				v.BytesOut = int(n)
			case inTimes:
				v.Cut, v.Times = n&1 == 1, int(n>>1)
			}
		}
		if r.broken || len(r.b) > 0 {
			return ErrDamaged
		}
	}
	return nil
}

// addTexts adds the texts to records at their places.
func (h *Head) addTexts(records []Record, places []int) error {
	controls := map[string]*team.CallControl{}
	for c := range columns {
		col, err := h.column(c)
		if err != nil {
			return err
		}
		for i := range records {
			at := col.at(places[i])
			if at >= len(col.list) {
				return ErrDamaged
			}
			v := &records[i]
			if c == inControl {
				if col.list[at] != "" {
					if v.Control, err = readControl(controls, col.list[at]); err != nil {
						return err
					}
				}
				continue
			}
			*[...]*string{
				inAgent: &v.Agent, inPerson: &v.Person, inServer: &v.Server, inTool: &v.Tool, inDecision: &v.Decision, inRule: &v.Rule,
				inOutcome: &v.Outcome, inSession: &v.Session, inError: &v.Error,
			}[c] = col.list[at]
		}
	}
	return nil
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

// Body is the arguments and results of a block, as they are read.
type Body struct{ raw []byte }

// OpenBody begins to read arguments and results.
func OpenBody(body []byte) (Body, error) {
	raw, err := unpack(body)
	return Body{raw}, err
}

// each gives the arguments and the result of records to fn that stand at some places, in
// ascending order: which of the places, and from where to where they go in what was written.
func (b Body) each(places []int, fn func(i int, arguments, result span)) error {
	r, at := reader{b: b.raw}, 0
	next := func() span {
		n := len(r.bytes())
		end := len(b.raw) - len(r.b)
		return span{end - n, end}
	}
	for i, place := range places {
		for ; at < place; at++ {
			next()
			next()
		}
		fn(i, next(), next())
		at++
	}
	if r.broken {
		return ErrDamaged
	}
	return nil
}

// span is a part of what is read: from here, to before there.
type span struct{ from, to int }

// Add adds arguments and results to records of the same block that stand at some places, in
// ascending order.
func (b Body) Add(records []Record, places []int) error {
	return b.each(places, func(i int, arguments, result span) {
		records[i].Arguments, records[i].Result = string(b.raw[arguments.from:arguments.to]), string(b.raw[result.from:result.to])
	})
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
	return writeHead(records, 0, closed), facts, nil
}
