package evidence

import (
	"encoding/base64"
	"encoding/json"
	"regexp"
	"slices"
	"strings"
	"time"
	"unicode"
)

// Credential is the form of a credential as it is sent, inspected where it is kept. It
// holds nothing of the value itself, but for a placeholder, which is none.
type Credential struct {
	Form
	// Variable is where a process gets it instead.
	Variable string
	Empty    bool
	// Stray says what is around or within the value that does not belong there.
	Stray string
	// Doubled is a scheme word that is there twice.
	Doubled string
	// NoScheme is set when it goes into Authorization without a word before it.
	NoScheme bool
	// Placeholder is what was never replaced.
	Placeholder string
	// Environment is the part of a prefix that tells which environment it is for.
	Environment string
	// Claims are those of a JSON Web Token (RFC 7519), not verified; nil for another form.
	Claims *Claims
	// Basic says what is wrong with a value for the scheme Basic (RFC 7617).
	Basic string
}

// Claims are what a JSON Web Token says of itself.
type Claims struct {
	Issuer                     string
	Audience                   []string
	Scopes                     []string
	Issued, NotBefore, Expires time.Time
}

var (
	placeholder = regexp.MustCompile(
		`(?i)^(?:\$\{[^}]*\}|\$[A-Z_][A-Z0-9_]*|%[A-Z_][A-Z0-9_]*%|\{\{[^}]*\}\}|<[^<>]+>|\[[^\]]*(?:token|key|secret)[^\]]*\]|` +
			`(?:your|my|insert|paste|enter|replace|put|add)[-_ ].*(?:token|key|secret|here|value).*|.*(?:replace|change)[-_ ]?me.*|` +
			`(?:api[-_ ]?)?(?:token|key|secret)[-_ ]?(?:goes[-_ ])?here|x{4,}|\*{4,}|\.{3,}|.*\.\.\.|.*(?:…|x{6,})|todo|tbd|none|null|undefined|nil|example|placeholder|dummy)$`,
	)
	// environments are words in the prefix of a key that tell what it is for.
	environments = regexp.MustCompile(
		`(?i)(?:^|[-_.])(test|testing|sandbox|sbx|dev|development|staging|stage|stg|live|prod|production)(?:[-_.]|$)`,
	)
	schemes = []string{"bearer", "basic", "token", "apikey", "api-key", "dpop", "negotiate", "digest", "key"}
)

// InspectCredential tells the form of a credential as it is sent. The value is the whole
// of the header, the parameter or the variable.
func InspectCredential(f Form, variable, value string) Credential {
	c := Credential{Form: f, Variable: variable}
	bare := strings.TrimSpace(value)
	if bare == "" {
		c.Empty = true
		return c
	}
	if strings.EqualFold(f.Header, "Authorization") || f.Scheme != "" {
		word, rest, found := strings.Cut(strings.TrimLeft(value, " \t"), " ")
		switch {
		case found && slices.Contains(schemes, strings.ToLower(word)):
			c.Scheme = word
			value = rest
			if second, _, again := strings.Cut(strings.TrimSpace(rest), " "); again && slices.Contains(schemes, strings.ToLower(second)) {
				c.Doubled = word
			} else if strings.EqualFold(strings.TrimSpace(rest), word) {
				c.Empty = true
			}
		case slices.Contains(schemes, strings.ToLower(bare)):
			c.Empty = true
		case !found && f.Scheme == "":
			c.NoScheme = true
		}
	}
	core := Clean(value)
	if c.Stray = stray(value); strings.ContainsAny(value, "\r\n") {
		c.Stray = LineBreak
	}
	if core == "" {
		c.Empty = true
		return c
	}
	if placeholder.MatchString(core) {
		c.Placeholder = core
		if r := []rune(core); len(r) > 60 {
			c.Placeholder = string(r[:60]) + "…"
		}
	}
	if m := environments.FindStringSubmatch(core[:min(len(core), 24)]); m != nil {
		c.Environment = strings.ToLower(m[1])
	}
	c.Claims = readClaims(core)
	if strings.EqualFold(c.Scheme, "basic") {
		if raw, err := base64.StdEncoding.DecodeString(core); err != nil {
			c.Basic = "it is no base64"
		} else if !strings.Contains(string(raw), ":") {
			c.Basic = "there is no colon between a name and a password in it"
		}
	}
	return c
}

// LineBreak is what Stray says of a value that no header can hold.
const LineBreak = "a line break"

// stray names what is around or within a value that does not belong to it.
func stray(value string) string {
	switch {
	case strings.ContainsAny(value, "\r\n"):
		return LineBreak
	case strings.TrimSpace(value) != value:
		return "a blank before or after it"
	case len(value) > 1 && strings.ContainsRune("\"'`“”‘’", []rune(value)[0]):
		return "quotes around it"
	case strings.HasSuffix(value, "\"") || strings.HasSuffix(value, "'") || strings.HasSuffix(value, ",") || strings.HasSuffix(value, ";"):
		return "a quote, comma or semicolon at its end"
	case strings.IndexFunc(value, func(r rune) bool { return r > unicode.MaxASCII || !unicode.IsPrint(r) }) >= 0:
		return "a character that cannot be seen or is not ASCII"
	case strings.Contains(value, " "):
		return "a blank within it"
	}
	return ""
}

// Clean is a value without what does not belong to it: scheme words, blanks, line
// breaks, quotes and characters that cannot be seen.
func Clean(value string) string {
	before := ""
	for value != before {
		before = value
		value = strings.Trim(value, " \t\r\n\"'`“”‘’,;\u200b\ufeff\u00a0")
		if word, rest, ok := strings.Cut(value, " "); ok && slices.Contains(schemes, strings.ToLower(word)) {
			value = rest
		}
		for _, name := range []string{"Authorization:", "authorization:", "X-Api-Key:", "x-api-key:"} {
			value = strings.TrimPrefix(value, name)
		}
	}
	return strings.Map(func(r rune) rune {
		if r > unicode.MaxASCII || !unicode.IsPrint(r) {
			return -1
		}
		return r
	}, value)
}

// readClaims reads a JSON Web Token without verifying it; nil for anything else.
func readClaims(value string) *Claims {
	parts := strings.Split(value, ".")
	if len(parts) != 3 {
		return nil
	}
	raw, err := base64.RawURLEncoding.DecodeString(strings.TrimRight(parts[1], "="))
	if err != nil {
		return nil
	}
	var m struct {
		Issuer    string          `json:"iss"`
		Audience  json.RawMessage `json:"aud"`
		Scope     json.RawMessage `json:"scope"`
		Scp       json.RawMessage `json:"scp"`
		Issued    float64         `json:"iat"`
		NotBefore float64         `json:"nbf"`
		Expires   float64         `json:"exp"`
	}
	if json.Unmarshal(raw, &m) != nil {
		return nil
	}
	return &Claims{
		Issuer: m.Issuer, Audience: listOf(m.Audience), Scopes: append(fieldsOf(m.Scope), fieldsOf(m.Scp)...),
		Issued: at(m.Issued), NotBefore: at(m.NotBefore), Expires: at(m.Expires),
	}
}

func at(seconds float64) time.Time {
	if seconds <= 0 || seconds > 1e11 {
		return time.Time{}
	}
	return time.Unix(int64(seconds), 0).UTC()
}

// listOf is a member that may be a text or a list of texts.
func listOf(raw json.RawMessage) (list []string) {
	var one string
	if json.Unmarshal(raw, &one) == nil && one != "" {
		return []string{one}
	}
	if json.Unmarshal(raw, &list) != nil {
		return nil
	}
	return list
}

func fieldsOf(raw json.RawMessage) (list []string) {
	for _, text := range listOf(raw) {
		list = append(list, strings.Fields(text)...)
	}
	return list
}
