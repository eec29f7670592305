package review

import (
	"encoding/json"
	"fmt"
	"regexp"
	"strings"
	"unicode"
	"unicode/utf8"

	"bouncer/internal/core/tools"
)

// Suspicion is something about a tool's description that somebody should look at.
type Suspicion struct {
	Code    string `json:"code" enum:"instructs-the-model,hides-from-people,names-another-tool,asks-for-secrets,sends-elsewhere,invisible-text,encoded-text,overlong,claims-less"`
	Text    string `json:"text" doc:"what is the matter, in words"`
	Excerpt string `json:"excerpt,omitempty" doc:"where it is"`
}

// phrases are what descriptions of tools do not say that mean what they say. They are
// looked for in all texts of the description and its schemas.
var phrases = []struct {
	code, text string
	re         *regexp.Regexp
}{
	{
		"instructs-the-model", "it tells the model to do something instead of saying what the tool does",
		regexp.MustCompile(
			`(?i)\b(ignore|disregard|forget|override)\b[^.]{0,40}\b(previous|prior|earlier|above|all|other)\b[^.]{0,40}\b(instruction|rule|prompt|message)s?\b` +
				`|\byou (must|should|have to|are required to|need to) (always|first|also|never|now|immediately)\b` +
				`|\b(always|first|never)\b[^.]{0,30}\bbefore (using|calling|answering|replying|any)\b` +
				`|<\s*/?\s*(important|system|instructions?|secret|admin)\s*>|\bsystem prompt\b|\bas an? (ai|assistant|language model)\b`,
		),
	},
	{
		"hides-from-people", "it asks to keep something from people",
		regexp.MustCompile(
			`(?i)\b(do not|don't|never|without)\b[^.]{0,30}\b(tell|telling|mention|mentioning|inform|informing|reveal|show|showing|ask|asking)\b[^.]{0,30}\b(user|person|people|human|them|anyone)\b` +
				`|\b(secretly|silently|covertly)\b`,
		),
	},
	{
		"asks-for-secrets", "it speaks of secrets or of private files",
		regexp.MustCompile(
			`(?i)\b(password|passphrase|private key|api[ _-]?key|access token|credentials?|\.ssh\b|id_rsa|\.env\b|session cookie|environment variables?)\b`,
		),
	},
	{
		"sends-elsewhere", "it names an address that something could be sent to",
		regexp.MustCompile(
			`(?i)\bhttps?://[^\s"')]+|\b[a-z0-9._%+-]+@[a-z0-9.-]+\.[a-z]{2,}\b|\bforward (it|them|everything|a copy)\b|\bsend (it|them|everything|a copy|the (contents?|result|conversation))\b`,
		),
	},
	{"encoded-text", "it holds a long run of letters that may be encoded text", regexp.MustCompile(`[A-Za-z0-9+/=]{120,}`)},
}

// Limits above which a description is told to be long: it costs every conversation.
const (
	longText = 2_000 // characters of the description
	longTool = 8 << 10
)

// Lint looks at a tool. others are the names of the other tools that agents see with it;
// before is how it was accepted, empty for a new one.
func Lint(t, before tools.Tool, others []string) (out []Suspicion) {
	texts := textsOf(t.Raw)
	for _, p := range phrases {
		for _, text := range texts {
			if at := p.re.FindStringIndex(text); at != nil {
				out = append(out, Suspicion{p.code, p.text, excerpt(text, at[0], at[1])})
				break
			}
		}
	}
	for _, text := range texts {
		if at, what := invisible(text); at >= 0 {
			out = append(
				out,
				Suspicion{"invisible-text", "it holds characters that people do not see (" + what + ")", excerpt(text, at, at+1)},
			)
			break
		}
	}
	if other := named(texts, t.Name, others); other != "" {
		out = append(out, Suspicion{"names-another-tool", "it speaks of another tool, " + other, ""})
	}
	if n := utf8.RuneCountInString(t.Summary().Description); n > longText || len(t.Raw) > longTool {
		out = append(
			out,
			Suspicion{"overlong", fmt.Sprintf("its description has %d bytes, which every conversation pays for", len(t.Raw)), ""},
		)
	}
	if claim := claimsLess(before, t); claim != "" {
		out = append(out, Suspicion{"claims-less", claim, ""})
	}
	return out
}

// textsOf are all texts of a description: of itself and of its schemas.
func textsOf(raw json.RawMessage) (out []string) {
	var v any
	if json.Unmarshal(raw, &v) != nil {
		return nil
	}
	var walk func(v any, depth int)
	walk = func(v any, depth int) {
		switch v := v.(type) {
		case string:
			out = append(out, v)
		case []any:
			for _, member := range v {
				if depth < 40 {
					walk(member, depth+1)
				}
			}
		case map[string]any:
			for name, member := range v {
				if name == "$schema" || name == "$id" || name == "icons" {
					continue // addresses that are no texts
				}
				if depth < 40 {
					walk(member, depth+1)
				}
			}
		}
	}
	walk(v, 0)
	return out
}

// invisible finds characters that are there and not seen.
func invisible(text string) (at int, what string) {
	for i, r := range text {
		switch {
		case r >= 0xE0000 && r <= 0xE007F:
			return i, "tags"
		case r == 0x200B || r == 0x200C || r == 0x200D || r == 0x2060 || r == 0xFEFF:
			return i, "of no width"
		case r >= 0x202A && r <= 0x202E, r >= 0x2066 && r <= 0x2069:
			return i, "that turn the direction of writing"
		case unicode.IsControl(r) && r != '\n' && r != '\r' && r != '\t':
			return i, "control characters"
		}
	}
	return -1, ""
}

// named is a name of another tool that texts speak of. Short names are words of the
// language and count for nothing.
func named(texts []string, own string, others []string) string {
	for _, other := range others {
		if other == own || len(other) < 6 || !strings.ContainsAny(other, "_-.") {
			continue
		}
		for _, text := range texts {
			if strings.Contains(text, other) {
				return other
			}
		}
	}
	return ""
}

// claimsLess says which hint a tool gives now that makes it look more harmless than before.
func claimsLess(before, now tools.Tool) string {
	if before.Name == "" {
		return ""
	}
	readOnly, destructive, _, _ := before.Hints()
	nowReadOnly, nowDestructive, _, _ := now.Hints()
	said := func(b *bool, presumed bool) bool { return b == nil && presumed || b != nil && *b }
	switch {
	case !said(readOnly, false) && said(nowReadOnly, false):
		return "it says of itself now that it only reads"
	case said(destructive, true) && !said(nowDestructive, true) && !said(nowReadOnly, false):
		return "it says of itself now that it destroys nothing"
	}
	return ""
}

func excerpt(text string, from, to int) string {
	const around = 60
	from, to = max(0, from-around), min(len(text), to+around)
	cut := strings.ToValidUTF8(text[from:to], "")
	return strings.Map(func(r rune) rune {
		if !unicode.IsPrint(r) {
			return '·'
		}
		return r
	}, cut)
}
