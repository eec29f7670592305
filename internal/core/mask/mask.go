// Package mask keeps secrets out of everything that is written. A Masker knows
// the stored values, each in the spellings in which it can turn up (as it is,
// escaped for JSON, for a URL, in base 64), and the forms that give a credential
// away even when its value is not known.
package mask

import (
	"encoding/base64"
	"encoding/json"
	"net/url"
	"regexp"
	"sort"
	"strings"
)

// Mark stands where a secret was.
const Mark = "[masked]"

// minValue is the shortest value that is masked by value. Anything shorter
// would turn ordinary text into marks.
const minValue = 6

// Masker replaces secrets. It is immutable and safe for concurrent use; the
// nil Masker masks by form only.
type Masker struct {
	values  []string // longest first, so that a value inside another never wins
	first   [256]bool
	longest int
}

// New returns a Masker for the given secret values.
func New(values []string) *Masker {
	m := &Masker{}
	seen := map[string]bool{}
	add := func(v string) {
		if len(v) < minValue || seen[v] {
			return
		}
		seen[v] = true
		m.values = append(m.values, v)
		m.first[v[0]] = true
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
	}
	sort.Slice(m.values, func(i, j int) bool { return len(m.values[i]) > len(m.values[j]) })
	return m
}

// Longest is the length in bytes of the longest spelling that is known. Text
// that is going to be cut must be masked with this much more behind the cut.
func (m *Masker) Longest() int {
	if m == nil {
		return 0
	}
	return m.longest
}

// Text returns s with every known value and every tell-tale form masked.
func (m *Masker) Text(s string) string { return byForm(m.byValue(s)) }

// Cut masks b and cuts the outcome to limit bytes; cut tells whether something
// was left out. Only as much of b is looked at as can matter.
func (m *Masker) Cut(b []byte, limit int) (text string, cut bool) {
	if window := limit + m.Longest() + 512; len(b) > window {
		b, cut = b[:window], true
	}
	text = m.Text(string(b))
	if len(text) > limit {
		text, cut = strings.ToValidUTF8(text[:limit], ""), true
	}
	return text, cut
}

func (m *Masker) byValue(s string) string {
	if m == nil || len(m.values) == 0 {
		return s
	}
	var out strings.Builder
	done := 0
	for i := 0; i < len(s); i++ {
		if !m.first[s[i]] {
			continue
		}
		for _, v := range m.values {
			if v[0] == s[i] && strings.HasPrefix(s[i:], v) {
				out.WriteString(s[done:i])
				out.WriteString(Mark)
				i += len(v) - 1
				done = i + 1
				break
			}
		}
	}
	if done == 0 {
		return s
	}
	out.WriteString(s[done:])
	return out.String()
}

// Each form keeps its first group and masks the second.
var forms = []struct {
	hint []string // one of these must be in the lower-cased text
	re   *regexp.Regexp
}{
	{[]string{"bearer", "basic"}, regexp.MustCompile(`(?i)(\b(?:bearer|basic)\s+)([A-Za-z0-9._~+/=-]{8,})`)},
	{[]string{"bnp_"}, regexp.MustCompile(`()(\bbnp_[A-Za-z0-9_-]{20,})`)},
	{[]string{"bnt_"}, regexp.MustCompile(`()(\bbnt_[A-Za-z0-9_-]{20,})`)},
	{[]string{"eyj"}, regexp.MustCompile(`()(\beyJ[A-Za-z0-9_-]{8,}\.[A-Za-z0-9_-]{8,}\.[A-Za-z0-9_-]*)`)},
	{[]string{"password", "secret", "token", "api_key", "apikey", "api-key", "authorization"},
		regexp.MustCompile(`(?i)("[a-z0-9_-]*(?:password|secret|access_token|refresh_token|id_token|api_?-?key|authorization)"\s*:\s*")([^"\\]{4,})`)},
}

func byForm(s string) string {
	lower := ""
	for _, f := range forms {
		if lower == "" {
			lower = strings.ToLower(s)
		}
		for _, h := range f.hint {
			if strings.Contains(lower, h) {
				if masked := f.re.ReplaceAllString(s, "${1}"+Mark); masked != s {
					s, lower = masked, ""
				}
				break
			}
		}
	}
	return s
}
