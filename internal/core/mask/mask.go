// Package mask keeps secrets out of everything that is written. A Masker knows
// the stored values, each in the spellings in which it can turn up: as it is, in base
// 64 (also amid something longer) and in hexadecimal, and with any of its characters
// escaped as JSON and URLs have it, once or several times over. It knows besides the
// forms that give a credential away even when its value is not known.
package mask

import (
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"net/url"
	"sort"
	"strings"
	"unicode/utf8"
)

// Mark stands where a secret was.
const Mark = "[masked]"

// minValue is the shortest value that is masked by value. Anything shorter
// would turn ordinary text into marks.
const minValue = 6

// Masker replaces secrets. It is immutable and safe for concurrent use; the
// nil Masker masks by form only.
type Masker struct {
	// values holds the spellings by their first two bytes, longest first, so that
	// a value inside another never wins. pairs has a bit for each such two bytes.
	values map[uint16][]string
	// plain holds the values themselves by the first two bytes of each way in which
	// they can begin when characters are escaped.
	plain   map[uint16][]string
	pairs   pairs // of the values
	any     pairs // of the values and of the forms
	longest int
}

// pairs is a set of two bytes: nearly every place in a text is passed over by
// one look into it.
type pairs [1 << 10]uint64

func (p *pairs) add(a, b byte) {
	n := uint16(a)<<8 | uint16(b)
	p[n>>6] |= 1 << (n & 63)
}

// forms are the beginnings of what gives a credential away by its form.
var forms = func() (p pairs) {
	for _, s := range [...]string{"bn", "be", "bE", "ba", "bA", "Be", "BE", "Ba", "BA", "ey", "\":", "\" "} {
		p.add(s[0], s[1])
	}
	return p
}()

// New returns a Masker for the given secret values.
func New(values []string) *Masker {
	m := &Masker{values: map[uint16][]string{}, plain: map[uint16][]string{}, any: forms}
	seen := map[string]bool{}
	add := func(v string) {
		if seen[v] {
			return
		}
		seen[v] = true
		p := pair(v, 0)
		m.values[p] = append(m.values[p], v)
		m.pairs.add(v[0], v[1])
		m.any.add(v[0], v[1])
		m.longest = max(m.longest, len(v))
	}
	for _, v := range values {
		if len(v) < minValue {
			continue
		}
		add(v)
		if quoted, err := json.Marshal(v); err == nil {
			add(string(quoted[1 : len(quoted)-1]))
		}
		add(url.QueryEscape(v))
		add(url.PathEscape(v))
		for _, enc := range []*base64.Encoding{base64.StdEncoding, base64.URLEncoding, base64.RawStdEncoding, base64.RawURLEncoding} {
			add(enc.EncodeToString([]byte(v)))
		}
		for _, amid := range amidBase64(v) {
			add(amid)
		}
		digits := hex.EncodeToString([]byte(v))
		add(digits)
		add(strings.ToUpper(digits))
		m.addPlain(v)
	}
	for _, list := range m.values {
		sort.Slice(list, func(i, j int) bool { return len(list[i]) > len(list[j]) })
	}
	for _, list := range m.plain {
		sort.Slice(list, func(i, j int) bool { return len(list[i]) > len(list[j]) })
	}
	return m
}

// amidBase64 is what a value looks like within the base 64 of something longer: what
// does not depend on its neighbours, for each of the places where it can begin.
func amidBase64(v string) (out []string) {
	for before := range 3 {
		raw := append(make([]byte, before), v...)
		first := []int{0, 2, 3}[before]
		last := len(raw) * 8 / 6 // whole characters
		for _, enc := range []*base64.Encoding{base64.RawStdEncoding, base64.RawURLEncoding} {
			if text := enc.EncodeToString(raw); last-first >= minValue {
				out = append(out, text[first:last])
			}
		}
	}
	return out
}

// longEscaped is up to which length a value is looked for in full when it is escaped
// and cut; of longer ones the beginning gives enough to know them by.
const longEscaped = 256

// addPlain notes a value under every beginning that it can have when characters are
// escaped.
func (m *Masker) addPlain(v string) {
	note := func(a, b byte) {
		p := uint16(a)<<8 | uint16(b)
		for _, have := range m.plain[p] {
			if have == v {
				return
			}
		}
		m.plain[p] = append(m.plain[p], v)
		m.pairs.add(a, b)
		m.any.add(a, b)
	}
	note(v[0], v[1])
	note(v[0], '%')
	note(v[0], '\\')
	note('\\', 'u')
	note('\\', '\\')
	note('\\', v[0])
	note('%', '2') // of an escape that is escaped
	high := hex.EncodeToString([]byte{v[0]})[0]
	note('%', high)
	note('%', strings.ToUpper(string(rune(high)))[0])
	m.longest = max(m.longest, 6*min(len(v), longEscaped))
}

// escaped reports whether a value stands at i, with any of its characters escaped, and
// where it ends. At the end of the text its beginning is enough: it may have been cut.
func escaped(v, s string, i int) (to int, ok bool) {
	at := i
	for n := range len(v) {
		if at >= len(s) {
			return len(s), n >= minValue
		}
		next := character(v[n], s, at)
		if next < 0 {
			return 0, false
		}
		at = next
	}
	return at, true
}

// character returns where one character of a value ends that stands at i, plain or
// escaped; -1 when another one stands there.
func character(c byte, s string, i int) int {
	switch {
	case s[i] == '%':
		if end := percent(c, s, i); end > 0 {
			return end
		}
	case s[i] == '\\':
		if end := backslash(c, s, i); end > 0 {
			return end
		}
	case s[i] == '+' && c == ' ': // of a form
		return i + 1
	}
	if s[i] == c {
		return i + 1
	}
	return -1
}

// percent reads an escape of URLs, which may be escaped itself: %2F, %252F.
func percent(c byte, s string, i int) int {
	at := i + 1
	for strings.HasPrefix(s[at:], "25") && len(s) >= at+4 {
		if c == '%' && !isHex(s[at+2]) {
			break
		}
		at += 2
	}
	if at+2 > len(s) || !isHex(s[at]) || !isHex(s[at+1]) {
		return -1
	}
	if fromHex(s[at])<<4|fromHex(s[at+1]) != c {
		return -1
	}
	return at + 2
}

// backslash reads an escape of JSON, which may be escaped itself: \/, \u002f, \\\/.
func backslash(c byte, s string, i int) int {
	at := i
	for at < len(s) && s[at] == '\\' {
		at++
	}
	if at >= len(s) {
		return at
	}
	short := map[byte]byte{'n': '\n', 't': '\t', 'r': '\r', 'b': '\b', 'f': '\f', '/': '/', '"': '"'}
	if s[at] == 'u' && at+5 <= len(s) && s[at+1] == '0' && s[at+2] == '0' && isHex(s[at+3]) && isHex(s[at+4]) &&
		fromHex(s[at+3])<<4|fromHex(s[at+4]) == c {
		return at + 5
	}
	switch {
	case c == '\\':
		return at
	case short[s[at]] == c && c != 0:
		return at + 1
	}
	return -1
}

func isHex(c byte) bool { return c >= '0' && c <= '9' || c|0x20 >= 'a' && c|0x20 <= 'f' }

func fromHex(c byte) byte {
	if c <= '9' {
		return c - '0'
	}
	return c | 0x20 - 'a' + 10
}

func pair(s string, i int) uint16 { return uint16(s[i])<<8 | uint16(s[i+1]) }

// Longest is the length in bytes of the longest spelling that is known. Text
// that is going to be cut must be masked with this much more behind the cut.
func (m *Masker) Longest() int {
	if m == nil {
		return 0
	}
	return m.longest
}

// Cut masks s and cuts the outcome to limit bytes; cut tells whether something
// was left out. Only as much of s is looked at as can matter.
func (m *Masker) Cut(s string, limit int) (text string, cut bool) {
	if window := limit + m.Longest() + 512; len(s) > window {
		s, cut = s[:window], true
	}
	text = m.Text(s)
	if len(text) > limit {
		text, cut = text[:limit], true
	}
	if !utf8.ValidString(text) { // which is quicker found out than it is mended
		text = strings.ToValidUTF8(text, "")
	}
	return text, cut
}

// Text returns s with every known value and every tell-tale form masked. It is
// one pass over s: the journal sends every body through here.
func (m *Masker) Text(s string) string {
	var out strings.Builder
	done := 0
	any := &forms
	if m != nil {
		any = &m.any
	}
	p := uint16(0)
	if s != "" {
		p = uint16(s[0])
	}
	for i := 0; i+1 < len(s); i++ {
		p = p<<8 | uint16(s[i+1])
		if any[p>>6]&(1<<(p&63)) == 0 {
			continue
		}
		from, to := 0, 0
		if m != nil && m.pairs[p>>6]&(1<<(p&63)) != 0 {
			from, to = m.value(s, i, p)
		}
		if to == 0 {
			switch s[i] {
			case 'b', 'B':
				from, to = scheme(s, i)
			case 'e':
				from, to = webToken(s, i)
			case '"':
				from, to = member(s, i)
			}
		}
		if to > from && from >= done {
			out.WriteString(s[done:from])
			out.WriteString(Mark)
			done, i = to, to-1
			p = uint16(s[min(to, len(s)-1)])
		}
	}
	if done == 0 {
		return s
	}
	out.WriteString(s[done:])
	return out.String()
}

func (m *Masker) value(s string, i int, p uint16) (from, to int) {
	for _, v := range m.values[p] {
		if strings.HasPrefix(s[i:], v) {
			return i, i + len(v)
		}
	}
	for _, v := range m.plain[p] {
		if end, ok := escaped(v, s, i); ok {
			return i, end
		}
	}
	return 0, 0
}

// scheme finds what follows the words bearer and basic, and the tokens that
// Bouncer itself hands out.
func scheme(s string, i int) (from, to int) {
	if len(s)-i > 4 && s[i:i+2] == "bn" && s[i+3] == '_' && strings.IndexByte("ptarci", s[i+2]) >= 0 {
		return run(s, i, i+4, 20)
	}
	if i > 0 && isToken(s[i-1]) {
		return 0, 0
	}
	for _, word := range [...]string{"bearer ", "basic "} {
		if len(s)-i > len(word) && strings.EqualFold(s[i:i+len(word)], word) {
			at := i + len(word)
			for at < len(s) && s[at] == ' ' {
				at++
			}
			return run(s, at, at, 8)
		}
	}
	return 0, 0
}

// webToken finds a JSON Web Token (RFC 7519): three parts, the first of which
// begins with the base 64 of {".
func webToken(s string, i int) (from, to int) {
	if !strings.HasPrefix(s[i:], "eyJ") {
		return 0, 0
	}
	if _, to = run(s, i, i+3, 16); strings.Count(s[i:max(i, to)], ".") >= 2 {
		return i, to
	}
	return 0, 0
}

// run returns the run of token characters from at on, with what stands from
// start on, if it is at least low long.
func run(s string, start, at, low int) (from, to int) {
	end := at
	for end < len(s) && isToken(s[end]) {
		end++
	}
	if end-at < low {
		return 0, 0
	}
	return start, end
}

func isToken(c byte) bool {
	return c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' || c == '-' || c == '_' || c == '.' || c == '~' ||
		c == '+' ||
		c == '/' ||
		c == '='
}

// telling are the ends of member names whose values are credentials.
var telling = [...]string{
	"password",
	"secret",
	"access_token",
	"refresh_token",
	"id_token",
	"apikey",
	"api_key",
	"api-key",
	"authorization",
	"accesstoken",
	"refreshtoken",
}

// member finds the value of a JSON member with a telling name, also where the
// JSON is itself the text of a JSON string. s[i] is the quote that ends the name.
func member(s string, i int) (from, to int) {
	at := i + 1
	for at < len(s) && s[at] == ' ' {
		at++
	}
	if at >= len(s) || s[at] != ':' {
		return 0, 0
	}
	end := i
	escaped := end > 0 && s[end-1] == '\\'
	if escaped {
		end--
	}
	name := strings.ToLower(s[max(0, end-64):end])
	told := false
	for _, t := range telling {
		told = told || strings.HasSuffix(name, t)
	}
	if !told {
		return 0, 0
	}
	for at++; at < len(s) && s[at] == ' '; at++ {
	}
	quote := `"`
	if escaped {
		quote = `\"`
	}
	if !strings.HasPrefix(s[at:], quote) {
		return 0, 0
	}
	at += len(quote)
	n := strings.Index(s[at:], quote)
	if n < 0 {
		n = len(s) - at // cut off in the middle: all of it
	}
	if n < 4 {
		return 0, 0
	}
	return at, at + n
}
