// Package looks tells by name, by form and by how random it is whether a value is a
// secret, and whether it only stands for one. It is careful to be right rather than
// complete: what it calls a secret is refused in the open.
package looks

import (
	"math"
	"regexp"
	"strings"
	"unicode"
)

var (
	secretName = regexp.MustCompile(
		`(?i)(^|[_\-. ])(api[_-]?key|key|apikey|token|secret|password|passwd|passphrase|pwd|credentials?|authorization|pat)$`,
	)
	numberLike = regexp.MustCompile(`^[0-9.,:]+$`)
	signed     = regexp.MustCompile(`^eyJ[A-Za-z0-9_-]{8,}\.[A-Za-z0-9_-]{8,}\.[A-Za-z0-9_-]*$`)
	prefixed   = regexp.MustCompile(`^[A-Za-z]{2,10}[-_][A-Za-z0-9_-]*[0-9][A-Za-z0-9_-]{15,}$`)
	privateKey = regexp.MustCompile(`-----BEGIN [A-Z ]*PRIVATE KEY-----`)
	identifier = regexp.MustCompile(`(?i)^[0-9a-f]{8}-[0-9a-f]{4}-[0-9a-f]{4}-[0-9a-f]{4}-[0-9a-f]{12}$`)
	stands     = regexp.MustCompile(`(?i)^(\$\{.*\}|\{\{.*\}\}|<[^>]*>|\[[^\]]*\]|%[a-z0-9_]+%|\$[a-z_][a-z0-9_]*|[x*•.]{3,}|.*\*{4,}` +
		`|(your|my|insert|enter|paste|put|add|replace)[-_ ].*|.*[-_ ](here|goes-here)|changeme|change-me|todo|tbd|secret|token|password|api[-_]?key|example)$`)
)

// Placeholder reports whether a value only stands for one, as in instructions, or is a
// masked one.
func Placeholder(value string) bool { return stands.MatchString(strings.TrimSpace(value)) }

// Secret reports why a value looks like a secret: by the name it stands under, or by
// itself; "" when it does not. A placeholder is none.
func Secret(name, value string) string {
	value = strings.TrimSpace(value)
	if value == "" || Placeholder(value) {
		return ""
	}
	switch {
	case privateKey.MatchString(value):
		return "it is a private key"
	case signed.MatchString(value):
		return "it is a signed token"
	case secretName.MatchString(name) && len(value) >= 6 && !plain(value):
		return "its name says so"
	case prefixed.MatchString(value) && unpredictable(value, 3.2):
		return "it has the form of a token"
	case len(value) >= 24 && !plain(value) && mixed(value) && unpredictable(value, 3.7):
		return "it looks random"
	}
	return ""
}

// plain reports whether a value is of a kind that is no secret, whatever its name.
func plain(value string) bool {
	switch strings.ToLower(value) {
	case "true", "false", "yes", "no", "on", "off", "none", "null", "auto", "default", "enabled", "disabled", "bearer", "header":
		return true
	}
	return numberLike.MatchString(value) || identifier.MatchString(value) || strings.ContainsAny(value, "/\\ ")
}

// mixed reports whether a value has letters and digits, and nothing that words have.
func mixed(value string) bool {
	letters, digits := false, false
	for _, r := range value {
		switch {
		case unicode.IsDigit(r):
			digits = true
		case unicode.IsLetter(r):
			letters = true
		case !strings.ContainsRune("_-+=.", r):
			return false
		}
	}
	return letters && digits
}

// unpredictable reports whether the characters of a value have more entropy than some bits each.
func unpredictable(value string, bits float64) bool {
	counts := map[rune]int{}
	for _, r := range value {
		counts[r]++
	}
	sum, n := 0.0, float64(len([]rune(value)))
	for _, c := range counts {
		p := float64(c) / n
		sum -= p * math.Log2(p)
	}
	return sum > bits
}
