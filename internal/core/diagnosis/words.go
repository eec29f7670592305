package diagnosis

import (
	"encoding/json"
	"regexp"
	"strings"
)

// maxWords is how much of an answer's Own words is repeated, in characters.
const maxWords = 200

// Own are the words of the server: what the body of an error says, as far as it is for
// people; "" for a web page and for none.
func Own(body string) string {
	text := strings.TrimSpace(body)
	if text == "" || strings.HasPrefix(strings.ToLower(text), "<!doctype") || strings.HasPrefix(strings.ToLower(text), "<html") {
		return ""
	}
	var v map[string]any
	if json.Unmarshal([]byte(text), &v) == nil {
		for _, key := range []string{"error_description", "message", "detail", "title", "error", "reason"} {
			switch said := v[key].(type) {
			case string:
				if said != "" {
					return Clip(said)
				}
			case map[string]any:
				if inner, ok := said["message"].(string); ok && inner != "" {
					return Clip(inner)
				}
			}
		}
	}
	return Clip(text)
}

func Clip(text string) string { return ClipTo(text, maxWords) }

func ClipTo(text string, most int) string {
	text = strings.Join(strings.Fields(text), " ")
	if r := []rune(text); len(r) > most {
		return string(r[:most]) + "…"
	}
	return text
}

// says appends the server's Own words to a message.
func says(e Evidence) string {
	if words := Own(e.Body); words != "" {
		return "; it says: " + words
	}
	return ""
}

// asked finds a header that an answer asks for by its name.
var asked = regexp.MustCompile(`(?i)\b(x-[a-z0-9]+(?:-[a-z0-9]+)*|api-?key|[a-z]+-(?:api-?key|auth-token|access-token|token))\b`)

// NotHeaders are words of that form which are none to send a credential in.
var NotHeaders = regexp.MustCompile(
	`(?i)^(x-request-id|x-forwarded-.*|x-frame-.*|x-content-.*|x-powered-by|x-real-ip|x-ratelimit.*|x-www-.*|bearer-token|access-token)$`,
)

// WantsHeader is the header in which the server wants its credential, by what it says;
// "" when it names none.
func WantsHeader(e Evidence) string {
	for _, text := range []string{e.Challenge, Own(e.Body)} {
		for _, name := range asked.FindAllString(text, 5) {
			if strings.Contains(strings.ToLower(text), "header") || strings.HasPrefix(strings.ToLower(name), "x-") {
				if !NotHeaders.MatchString(name) {
					return CanonicalHeader(name)
				}
			}
		}
	}
	return ""
}

// CanonicalHeader writes a header's name as headers are written.
func CanonicalHeader(name string) string {
	parts := strings.Split(strings.ToLower(name), "-")
	for i, p := range parts {
		if p != "" {
			parts[i] = strings.ToUpper(p[:1]) + p[1:]
		}
	}
	return strings.Join(parts, "-")
}

// WantsScheme is the word that the server wants before the credential, when it is
// another than Bearer; "" for none.
func WantsScheme(e Evidence) string {
	scheme, _, _ := strings.Cut(strings.TrimSpace(e.Challenge), " ")
	switch strings.ToLower(strings.TrimRight(scheme, ",")) {
	case "", "bearer", "dpop", "digest", "negotiate", "ntlm", "basic":
		return ""
	}
	return scheme
}

// WhileRegistering is the finding for a server that is not registered yet: what helps
// is to register it otherwise, and not to alter what is not there.
func (f Finding) WhileRegistering(name string) Finding {
	switch f.Cause {
	case TokenRejected, TokenExpired:
		f.Remedy = "get a new token, and register it with that"
	}
	f.Remedy = strings.ReplaceAll(f.Remedy, "bouncer server update "+name, "bouncer server register "+name)
	return f
}
