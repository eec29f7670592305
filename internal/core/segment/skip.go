package segment

import (
	"encoding/binary"
	"slices"
)

// fields are those of a record that searches name, in the order of the summary.
const fields = 6

func fieldsOf(r *Record) [fields]string {
	return [fields]string{r.Agent, r.Person, r.Server, r.Tool, r.Outcome, r.Rule}
}

// maxNames is how many names of a field a summary lists. A field that has more of them is
// not summed up.
const maxNames = 200

// tooMany marks such a field.
const tooMany = 0xff

// mark is what a summary keeps of a name: two names can share it, and then a block is read
// in vain.
func mark(name string) uint16 {
	h := uint32(2166136261) // FNV-1a
	for i := range len(name) {
		h = (h ^ uint32(name[i])) * 16777619
	}
	return uint16(h ^ h>>16)
}

// factsOf sums up which names occur, whether a rule held calls, and how often rules decided.
func factsOf(records []Record) []byte {
	var seen [fields]map[string]struct{}
	for i := range seen {
		seen[i] = map[string]struct{}{}
	}
	held, decided, order := byte(0), map[string]int{}, []string{}
	for i := range records {
		for j, name := range fieldsOf(&records[i]) {
			seen[j][name] = struct{}{}
		}
		if c := records[i].Control; c != nil && c.Held != "" {
			held = 1
		}
		if rule := records[i].Rule; rule != "" {
			if _, known := decided[rule]; !known {
				order = append(order, rule)
			}
			decided[rule] += max(records[i].Times, 1)
		}
	}
	out := []byte{held}
	for _, names := range seen {
		if len(names) > maxNames {
			out = append(out, tooMany)
			continue
		}
		out = append(out, byte(len(names)))
		marks := make([]uint16, 0, len(names))
		for name := range names {
			marks = append(marks, mark(name))
		}
		slices.Sort(marks)
		for _, m := range marks {
			out = binary.BigEndian.AppendUint16(out, m)
		}
	}
	for _, rule := range order {
		out = binary.AppendUvarint(appendText(out, rule), uint64(decided[rule]))
	}
	return out
}

// Facts is a summary that is read. The zero value rules nothing out.
type Facts struct {
	known bool
	held  bool
	marks [fields][]byte
	all   [fields]bool // the field is summed up
	rules []byte
}

// ReadFacts reads a summary; one that there is none of rules nothing out.
func ReadFacts(b []byte) (f Facts) {
	if len(b) == 0 {
		return f
	}
	f.known, f.held = true, b[0] == 1
	b = b[1:]
	for i := range f.marks {
		if len(b) == 0 {
			return Facts{}
		}
		n := int(b[0])
		b = b[1:]
		if n == tooMany {
			continue
		}
		if len(b) < 2*n {
			return Facts{}
		}
		f.marks[i], f.all[i], b = b[:2*n], true, b[2*n:]
	}
	f.rules = b
	return f
}

// has reports whether a name can occur in a field.
func (f Facts) has(field int, name string) bool {
	if name == "" || !f.known || !f.all[field] {
		return true
	}
	m := mark(name)
	for list := f.marks[field]; len(list) > 0; list = list[2:] {
		if binary.BigEndian.Uint16(list) == m {
			return true
		}
	}
	return false
}

// Decided adds up how often rules decided, by their ids. It reports false when the summary
// does not say.
func (f Facts) Decided(into map[string]int) bool {
	if !f.known {
		return false
	}
	for r := (reader{b: f.rules}); len(r.b) > 0 && !r.broken; {
		rule := r.text()
		into[rule] += int(r.number())
	}
	return true
}

// wordBits is how many bits the summary of letters has.
const wordBits = 1 << 16

type words [wordBits / 64]uint64

// bit is where three letters that follow each other stand in a summary. Small and capital
// letters stand in one place, and so do a few other characters, which does no harm.
func bit(a, b, c byte) uint32 {
	return ((uint32(a)<<16 | uint32(b)<<8 | uint32(c)) | 0x202020) * 0x9e3779b1 >> 16
}

// add adds a text: every second three letters of it, which is enough for texts that are
// looked for to be found whether they begin at an even place or at an odd one.
func (w *words) add(text string) {
	for i := 0; i+2 < len(text); i += 2 {
		at := bit(text[i], text[i+1], text[i+2])
		w[at>>6] |= 1 << (at & 63)
	}
}

// wordsOf sums up the letters of all texts that are searched.
func wordsOf(records []Record) []byte {
	var w words
	var tool, failure string
	for i := range records {
		r := &records[i]
		if r.Tool != tool {
			tool = r.Tool
			w.add(tool)
		}
		if r.Error != failure {
			failure = r.Error
			w.add(failure)
		}
		w.add(r.Arguments)
		w.add(r.Result)
	}
	// Not compressed: that takes longer to undo than all else that a search does here.
	raw := make([]byte, 0, wordBits/8)
	for _, bits := range w {
		raw = binary.LittleEndian.AppendUint64(raw, bits)
	}
	return raw
}

// LetterParts is how many parts a summary of letters is cut into, so that a search reads only
// those that have a say in it.
const LetterParts = 8

// partBits is how many bits a part has.
const partBits = wordBits / LetterParts

// LetterPart is a part of the summary of letters of a block that is closed, counted from 0.
func (s *Segment) LetterPart(part int) []byte {
	return s.Words[part*partBits/8 : (part+1)*partBits/8]
}

// minWord is the shortest text, in bytes, by which blocks are passed over.
const minWord = 4

// Letters is a text as it is looked for in summaries of letters: the bits of every second three
// letters of it, in case it begins at an even place in what was summed up, and in case it begins
// at an odd one.
type Letters struct{ even, odd []uint32 }

// LettersOf returns the letters of a text that is looked for; none of one that is too short.
func LettersOf(text string) (l Letters) {
	if len(text) < minWord {
		return l
	}
	for i := 0; i+2 < len(text); i++ {
		at := bit(text[i], text[i+1], text[i+2])
		if i%2 == 0 {
			l.even = append(l.even, at)
		} else {
			l.odd = append(l.odd, at)
		}
	}
	return l
}

// Parts are the parts of a summary that have a say, the one that says most first.
func (l Letters) Parts() (parts []int) {
	var says [LetterParts]int
	for _, list := range [...][]uint32{l.even, l.odd} {
		for _, at := range list {
			says[at/partBits]++
		}
	}
	for part, n := range says {
		if n > 0 {
			parts = append(parts, part)
		}
	}
	slices.SortStableFunc(parts, func(a, b int) int { return says[b] - says[a] })
	return parts
}

// Ruled is what is known of whether a text can occur in a block.
type Ruled struct{ NotEven, NotOdd bool }

// Out reports that it cannot.
func (r Ruled) Out() bool { return r.NotEven && r.NotOdd }

// Read takes one more part of a block's summary into account. A part that is damaged rules
// nothing out.
func (r *Ruled) Read(l Letters, part int, summary []byte) {
	if len(summary) != partBits/8 {
		return
	}
	r.NotEven = r.NotEven || lacks(l.even, part, summary)
	r.NotOdd = r.NotOdd || lacks(l.odd, part, summary)
}

// lacks reports whether one of the bits that lie in a part is not set there.
func lacks(bits []uint32, part int, summary []byte) bool {
	for _, at := range bits {
		if int(at/partBits) != part {
			continue
		}
		if in := at % partBits; summary[in>>3]&(1<<(in&7)) == 0 {
			return true
		}
	}
	return false
}
