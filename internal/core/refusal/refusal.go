// Package refusal reads what servers say when they turn a request away: in the body, and in
// the challenge that comes with it. It knows the words of common frameworks and gateways,
// and those of the standards.
package refusal

import (
	"regexp"
	"strings"

	"bouncer/internal/core/diagnosis"
	"bouncer/internal/core/evidence"
)

// Refusal is what a server says when it turns a request away, read for what it is about.
type Refusal struct {
	Text    string // the server's own words, in small letters
	Headers string // what stands in the header WWW-Authenticate
	Code    string // the error code of the challenge (RFC 6750, section 3.1)

	Expired, Revoked, Audience, Quota, NotYet, Host, Address bool
	Environment, Scheme, Permission                          bool
	Scopes                                                   string // that are missing; "?" when the words do not name them
	Missing                                                  string // the header that it misses
	Credential                                               bool   // it speaks of a credential at all
}

// reading are the ways in which servers say what a refusal is about. They are those of
// common frameworks and gateways, and of the standards' own words.
var reading = struct {
	expired, revoked, audience, scope, quota, notYet, host, address, environment, scheme, permission, missing, credential *regexp.Regexp
}{
	expired: regexp.MustCompile(
		`expired|has ended|past its (?:end|expiry)|exp claim|no longer fresh|lapsed|ran out|"?exp"? (?:is|was) in the past`,
	),
	revoked: regexp.MustCompile(
		`revoked|deactivated|disabled|(?:been|was) (?:deleted|withdrawn|blocked|invalidated|rotated|cancell?ed|removed)|blacklist|blocklist|suspended|inactive`,
	),
	audience: regexp.MustCompile(
		`audience|\baud\b|invalid_target|not (?:intended|meant|issued) for (?:this|us)|(?:issued|minted|meant) for (?:another|a different)|` +
			`resource (?:indicator|does not match|mismatch)|wrong (?:resource|recipient)`,
	),
	scope: regexp.MustCompile(`(?:^|[^a-z])scopes?(?:[^a-z]|$)|insufficient[_ -]permissions?(?:[^a-z].{0,40}scope|["\s.]*$)`),
	quota: regexp.MustCompile(
		`quota|billing|payment|subscription|\bplan\b|credits?\b.*(?:exhaust|used|left|low|remain|balance)|(?:out of|insufficient|no) (?:credits?|funds|balance)|` +
			`usage limit|(?:monthly|daily|hourly) limit|limit (?:reached|exceeded) for|upgrade`,
	),
	notYet: regexp.MustCompile(
		`not yet (?:valid|active)|\bnbf\b|(?:issued|iat).{0,30}future|future.{0,30}(?:issued|iat)|clock|not before|used (?:too early|before)|too early|time ?skew|timestamp`,
	),
	host: regexp.MustCompile(
		`(?:invalid|bad|unknown|unrecognized|disallowed|forbidden|unexpected|not allowed|refused|rejected|untrusted|mismatch)[^.]{0,30}\b(?:host|origin)\b|` +
			`\b(?:host|origin)\b[^.]{0,60}(?:not (?:allowed|permitted|recognized|trusted|accepted|in)|invalid|forbidden|refused|rejected|denied|mismatch|is none)|dns.rebinding|misdirected|disallowedhost|allowed_hosts|http_host`,
	),
	address: regexp.MustCompile(
		`\bip\b|ip address|your address|from this (?:network|location|country)|geo|network policy|allow-?list|whitelist`,
	),
	environment: regexp.MustCompile(
		`(?:test|sandbox|staging|dev(?:elopment)?|live|prod(?:uction)?)[- ]?(?:mode )?(?:api )?(?:key|token|credential|secret)s?|` +
			`(?:key|token|credential)s?\b[^.]{0,50}\b(?:test|sandbox|staging|development|live|production)\b|(?:wrong|different|other|another|this) environment|` +
			`\b(?:test|sandbox|staging|live|production)\b.{0,20}(?:environment|mode)`,
	),
	scheme: regexp.MustCompile(
		`(?:must|should|expected?|has to|needs? to)[^.]{0,40}(?:bearer|scheme|prefix|start with|begin with)|(?:bearer|scheme)[^.]{0,30}(?:missing|required|expected|prefix|not found)|` +
			`(?:unsupported|unknown|invalid|wrong|bad|missing)[^.]{0,20}(?:auth\w*[ -])?(?:scheme|type)|use (?:the )?(?:format|scheme)|` +
			`(?:malformed|invalid|bad)[^.]{0,15}authorization header|authorization header[^.]{0,20}(?:malformed|format|invalid|must)|format[^.]{0,20}bearer`,
	),
	permission: regexp.MustCompile(
		`not (?:allowed|permitted|authori[sz]ed to|entitled)|permission|forbidden|access denied|role|privilege|does not have access|no access|policy|restricted`,
	),
	missing: regexp.MustCompile(
		`(?:missing|no|without|required?|requires|absent|lacks?|need|provide|supply|expected?|send|pass|include|set|use|in|via|must have)\b[^.;]{0,40}?['"\x60]?\b(authorization|x-[a-z0-9]+(?:-[a-z0-9]+)*|` +
			`api[-_]?key|apikey|[a-z]+(?:-[a-z]+)*-(?:api-?key|auth-token|access-token|token|key))\b['"\x60]?|` +
			`\b(authorization|x-[a-z0-9]+(?:-[a-z0-9]+)*)\b['"\x60]? (?:header )?(?:is |was )?(?:missing|required|absent|not (?:found|present|provided|set|sent|supplied)|expected|empty)`,
	),
	credential: regexp.MustCompile(
		`token|credential|api[-_ ]?key|apikey|unauthori[sz]ed|unauthenticated|authenticat|authorization|log ?in|sign ?in|access denied|jwt|bearer|secret`,
	),
}

// Read reads the words of an answer: its body and its challenge.
func Read(x *evidence.Exchange) Refusal {
	text := diagnosis.Own(x.Body)
	if text == "" && x.Reply.Shape == evidence.Page {
		text = diagnosis.ClipTo(PageText(x.Body), 600)
	}
	if x.Reply.Error != nil {
		text += " " + x.Reply.Error.Message + " " + x.Reply.Error.Data
	}
	r := ReadWords(text, x.Header["Www-Authenticate"])
	if m := namedMember.FindStringSubmatch(x.Body); r.Scopes == "?" && m != nil {
		r.Scopes = m[1]
	}
	return r
}

var challengeParam = regexp.MustCompile(`(\w+)="?([^",]*)"?`)

// ReadWords reads the words of a refusal, and the challenge that came with them.
func ReadWords(text, challenge string) Refusal {
	r := Refusal{Headers: challenge}
	words := text
	for _, m := range challengeParam.FindAllStringSubmatch(challenge, 12) {
		switch strings.ToLower(m[1]) {
		case "error":
			r.Code = strings.ToLower(m[2])
			words += " . " + m[2]
		case "error_description":
			words += " . " + m[2]
		case "scope":
			r.Scopes = m[2]
		}
	}
	r.Text = strings.ToLower(words)
	is := func(re *regexp.Regexp) bool { return re.MatchString(r.Text) }
	r.Expired, r.Revoked, r.Audience, r.Quota = is(reading.expired), is(reading.revoked), is(reading.audience), is(reading.quota)
	r.NotYet, r.Host, r.Address, r.Environment = is(reading.notYet), is(reading.host), is(reading.address), is(reading.environment)
	r.Scheme, r.Permission, r.Credential = is(reading.scheme), is(reading.permission), is(reading.credential)
	if r.Code != "insufficient_scope" && !is(reading.scope) {
		r.Scopes = "" // a challenge names its scopes whether they are missing or not
	} else if r.Scopes == "" {
		r.Scopes = scopesNamed(words)
	}
	if strings.Contains(r.Text, "authorization header") && strings.Contains(r.Text, "host header") {
		r.Host = false
	}
	r.Missing = missingHeader(r.Text)
	return r
}

var namedScopes = regexp.MustCompile(
	`(?i)scopes?['"]?(?:\s+(?:is|are|needed|required|missing))?[:=\s]+\[?['"\x60]?([a-z0-9_]+[:./][a-z0-9_:./*-]+)`,
)
var namedMember = regexp.MustCompile(`(?i)"(?:needed|required|required_scopes?|missing_scopes?|scope)"\s*:\s*\[?"([^"]+)"`)
var namedBefore = regexp.MustCompile(`['"\x60]([a-z0-9_]+[:./][a-z0-9_:./*-]+)['"\x60]? scope`)

// namedScheme is the word before the credential, as words name it.
var namedScheme = regexp.MustCompile(
	`(?i)(?:(?:start|begin|prefixed)s?\s+with|prefix|scheme(?:\s+(?:is|must be))?|format:?(?:\s+authorization:)?)\s+['"\x60<]?([A-Za-z][A-Za-z0-9-]{2,24})['"\x60 ]`,
)

// WantedScheme is the scheme that a refusal asks for, by its challenge or in its words; ""
// for none.
func WantedScheme(x *evidence.Exchange, r Refusal) string {
	if word := diagnosis.WantsScheme(diagnosis.Evidence{Challenge: r.Headers}); word != "" {
		return word
	}
	if m := namedScheme.FindStringSubmatch(x.Body); m != nil && !strings.EqualFold(m[1], "the") && !strings.EqualFold(m[1], "a") {
		return m[1]
	}
	return ""
}

// scopesNamed are the scopes that words name; "?" for none.
func scopesNamed(words string) string {
	if m := namedScopes.FindStringSubmatch(words); m != nil {
		return strings.TrimRight(m[1], ".,")
	}
	if m := namedBefore.FindStringSubmatch(words); m != nil {
		return m[1]
	}
	return "?"
}

// missingHeader is the header that words say is not there, as headers are written; "" for
// none.
func missingHeader(text string) string {
	for _, m := range reading.missing.FindAllStringSubmatch(text, 5) {
		name := m[1]
		if name == "" {
			name = m[2]
		}
		if name == "" || diagnosis.NotHeaders.MatchString(name) {
			continue
		}
		switch strings.ReplaceAll(name, "_", "-") {
		case "api-key", "apikey", "api key":
			if !strings.Contains(text, "header") {
				continue // it means the key, and names no header
			}
		}
		return diagnosis.CanonicalHeader(strings.ReplaceAll(name, "_", "-"))
	}
	return ""
}

// OfCredential reports whether a refusal is about a credential, by what it says.
func (r Refusal) OfCredential() bool {
	return r.Headers != "" || r.Credential || r.Scopes != "" && r.Code != "" || r.Missing != ""
}

// OfRefusal reports whether an answer is about a credential, by what it says.
func OfRefusal(x *evidence.Exchange) bool { return Read(x).OfCredential() }

// SaysNotYet reports whether words are about clocks that differ.
func SaysNotYet(text string) bool { return reading.notYet.MatchString(text) }

// SaysAudience reports whether words are about whom a token is for.
func SaysAudience(text string) bool { return reading.audience.MatchString(text) }

// Says reports whether a refusal says itself what it is about, so that trying the
// credential in other forms would tell nothing more.
func Says(x *evidence.Exchange) bool {
	r := Read(x)
	return r.Expired || r.Revoked || r.Audience || r.Quota || r.Environment || r.NotYet || r.Scopes != "" || r.Host
}

// HeaderWanted is the header in which a server wants its credential, by what it says; ""
// when it names none.
func HeaderWanted(x *evidence.Exchange) string {
	if name := diagnosis.WantsHeader(diagnosis.Evidence{Challenge: x.Header["Www-Authenticate"], Body: x.Body}); name != "" {
		return name
	}
	return Read(x).Missing
}

var tags = regexp.MustCompile(`(?s)<(?:script|style)\b.*?</(?:script|style)>|<[^>]*>`)

// PageText is the text of a web page.
func PageText(page string) string {
	return strings.Join(strings.Fields(tags.ReplaceAllString(page, " ")), " ")
}
