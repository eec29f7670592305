package verdict

import (
	"fmt"
	"net/url"
	"slices"
	"strings"
	"time"

	"bouncer/internal/core/diagnosis"
	"bouncer/internal/core/evidence"
	"bouncer/internal/core/refusal"
	"bouncer/internal/core/report"
)

// authJudge judges credentials: those that are lacking, refused, malformed, or not enough.
type authJudge struct{ *judge }

// tolerance is by how much clocks may differ before it matters.
const tolerance = 60 * time.Second

// httpDate is the form of the header Date (RFC 9110, section 5.6.7).
const httpDate = "Mon, 02 Jan 2006 15:04:05 GMT"

// sent are the credentials that went along.
func (j authJudge) sent() []evidence.Credential {
	return slices.DeleteFunc(slices.Clone(j.e.Credentials), func(c evidence.Credential) bool { return c.Variable != "" })
}

// lineBreak judges a credential that no header can hold; true when there is one.
func (j authJudge) lineBreak() bool {
	for _, c := range j.sent() {
		if c.Stray == evidence.LineBreak && c.Header != "" {
			j.add(
				diagnosis.StrayCharacters,
				"there is a line break in the credential, which no header can hold",
				"store it without: "+j.rotate(),
				"the value for "+c.Header+" holds a line break",
			)
			return true
		}
	}
	return false
}

// refused judges an answer that turns the credential, or its absence, away.
func (j authJudge) refused(x *evidence.Exchange, r refusal.Refusal) {
	switch {
	case x.Status == 402:
		j.add(
			diagnosis.Quota,
			"the server wants to be paid first (402)"+said(x),
			"look at the plan that the credential belongs to",
			x.Told(),
		)
	case r.Host && x.Status != 401, x.Status == 421: // misdirected, by the status alone (RFC 9110, section 15.5.20)
		j.ofHTTP().hostRefused(x)
	case j.ofOAuth().oauth(x):
	case len(j.sent()) == 0:
		j.none(x, r)
	case j.proven(x):
	case j.form(x, r):
	case j.words(x, r):
	case j.claims(x, r):
	case x.Status == 403:
		j.forbidden(x, r)
	default:
		facts := []string{x.Told(), j.withoutIt(x)}
		j.add(diagnosis.TokenRejected, "the server does not accept the credential ("+fmt.Sprint(x.Status)+")"+said(x),
			"get a new one, and store it: "+j.rotate(), facts...)
	}
}

// withoutIt says whether the answer is another one without the credential.
func (j authJudge) withoutIt(x *evidence.Exchange) string {
	w := j.e.Find(evidence.WithoutCredential)
	if w == nil || w.Status == 0 {
		return ""
	}
	if w.Status == x.Status && w.Body == x.Body {
		return "without the credential the server answers the same"
	}
	return w.Told()
}

// none judges a server that gets no credential and wants one.
func (j authJudge) none(x *evidence.Exchange, r refusal.Refusal) {
	facts := []string{x.Told()}
	scheme, _, _ := strings.Cut(strings.TrimSpace(r.Headers), " ")
	header := diagnosis.WantsHeader(diagnosis.Evidence{Challenge: r.Headers, Body: x.Body})
	if header == "" && r.Missing != "" && r.Missing != "Authorization" {
		header = r.Missing
	}
	signIn := j.discovered()
	switch {
	case x.Status == 403 && (r.Address || !r.OfCredential() && r.Permission && j.e.Target.SignIn):
		j.add(
			diagnosis.NotAllowed,
			"the server refuses to be reached from here (403)"+said(x),
			"have the address of the machine where Bouncer runs allowed",
			facts...)
	case signIn != "":
		f := j.add(
			diagnosis.NoCredential,
			fmt.Sprintf("the server wants a sign-in at %s, and nobody has signed in (%d)", signIn, x.Status),
			j.signIn(),
			facts...)
		if j.e.Target.Server != "" && !j.e.Target.SignIn {
			f.Remedy = "bouncer server update " + j.e.Target.Server + " --sign-in code"
		}
		if !j.registers() {
			f.Remedy += " --client-id ID, with a client that is registered by hand: the authorization server registers none by itself"
		}
	case header != "":
		j.add(diagnosis.NoCredential, fmt.Sprintf("the server wants a key in the header %s, and gets none (%d)", header, x.Status),
			j.update("--secret-header "+header+" --token"), facts...)
	case strings.EqualFold(scheme, "basic"):
		j.add(
			diagnosis.NoCredential,
			fmt.Sprintf("the server wants a name and a password, and gets none (%d)", x.Status),
			j.update("--also basic:NAME=SECRET"),
			facts...)
	case scheme != "" && !strings.EqualFold(scheme, "bearer"):
		j.add(diagnosis.NoCredential, fmt.Sprintf("the server wants a credential of the scheme %s, and gets none (%d)", scheme, x.Status),
			j.update("--also 'header:Authorization "+scheme+"=SECRET'"), facts...)
	default:
		j.add(diagnosis.NoCredential, fmt.Sprintf("the server wants a credential, and gets none (%d)%s", x.Status, said(x)),
			"ask its operator for a token: "+j.update("--token"), facts...)
	}
}

// registers reports whether a client can be had without somebody who registers it.
func (j authJudge) registers() bool {
	return slices.ContainsFunc(j.e.OAuth, func(s evidence.OAuthStep) bool {
		return s.What == evidence.AuthorityStep && (s.Register != "" || s.Documents)
	})
}

// discovered is the authorization server that was found; "" for none.
func (j authJudge) discovered() string {
	for _, s := range j.e.OAuth {
		if s.What == evidence.AuthorityStep && s.Err == nil && s.Status == 200 && s.Authorize+s.Token != "" {
			return s.Issuer
		}
	}
	return ""
}

// proven names what a further probe has proven: the same credential in another form, or
// cleaned, is accepted.
func (j authJudge) proven(x *evidence.Exchange) bool {
	if clean := j.ofHTTP().opened(evidence.Cleaned); clean != nil {
		j.unclean(x, clean)
		return true
	}
	other := j.ofHTTP().opened(evidence.OtherHeader)
	if other == nil {
		return false
	}
	facts := []string{x.Told(), other.Told()}
	was := j.sent()[0]
	switch f := other.Form; {
	case !strings.EqualFold(f.Header, was.Header) && !strings.EqualFold(f.Header, "Authorization"):
		fix := j.add(
			diagnosis.WrongHeader,
			fmt.Sprintf("the server reads the credential from the header %s, and it is sent in %s", f.Header, was.Header),
			j.update("--secret-header "+f.Header),
			facts...)
		fix.fix("secretHeader", f.Header, "sends the credential in the header "+f.Header)
	case !strings.EqualFold(f.Header, was.Header):
		j.add(diagnosis.WrongHeader, fmt.Sprintf("the server reads the credential from Authorization, and it is sent in %s", was.Header),
			j.update("--secret-header ''"), facts...).fix("secretHeader", "", "sends the credential as a bearer token")
	case was.Doubled != "":
		j.add(
			diagnosis.SchemeDoubled,
			fmt.Sprintf("the word %s is there twice: Bouncer writes it before the credential, which begins with it", was.Doubled),
			"store the credential without the word: "+j.rotate(),
			facts...)
	case was.NoScheme || was.Scheme == "":
		j.add(diagnosis.SchemeMissing, fmt.Sprintf("the server wants the word %s before the credential", f.Scheme),
			j.update("--secret-header ''"), facts...).
			fix("secretHeader", "", "sends the credential as a bearer token")
	case f.Scheme == "":
		j.add(diagnosis.SchemeOther, fmt.Sprintf("the server wants the credential in Authorization without the word %s before it", was.Scheme),
			j.update("--secret-header Authorization"), facts...).
			fix("secretHeader", "Authorization", "sends the credential as it is")
	default:
		j.add(diagnosis.SchemeOther, fmt.Sprintf("the server wants the word %s before the credential, and gets %s", f.Scheme, was.Scheme),
			j.update("--also 'header:Authorization "+f.Scheme+"=SECRET'"), facts...)
	}
	return true
}

// unclean judges a credential that works once it is cleaned.
func (j authJudge) unclean(x, clean *evidence.Exchange) {
	facts := []string{x.Told(), clean.Told()}
	was := j.sent()[0]
	for _, c := range j.sent() {
		if c.Doubled != "" || c.Stray != "" {
			was = c
			break
		}
	}
	if was.Doubled != "" {
		j.add(
			diagnosis.SchemeDoubled,
			fmt.Sprintf("the word %s is there twice: Bouncer writes it before the credential, which begins with it", was.Doubled),
			"store the credential without the word: "+j.rotate(),
			facts...)
		return
	}
	what := was.Stray
	if what == "" {
		what = "something that does not belong to it"
	}
	j.add(diagnosis.StrayCharacters, "the credential is right, but for "+what, "store it without: "+j.rotate(), facts...)
}

// form names what is wrong with the credential itself, whatever the server says.
func (j authJudge) form(x *evidence.Exchange, r refusal.Refusal) bool {
	for _, c := range j.sent() {
		facts := []string{x.Told()}
		cleaned := j.e.Find(evidence.Cleaned) // it was tried, and did not help
		switch {
		case c.Placeholder != "":
			j.add(
				diagnosis.Placeholder,
				"the credential is the placeholder "+c.Placeholder+", which was never replaced",
				"store the real one: "+j.rotate(),
				facts...)
		case c.Empty:
			j.add(diagnosis.NoCredential, "the credential is empty", "store one: "+j.rotate(), facts...).by(diagnosis.CredentialOwner)
		case c.Doubled != "":
			j.add(
				diagnosis.SchemeDoubled,
				fmt.Sprintf("the word %s is there twice", c.Doubled),
				"store the credential without the word: "+j.rotate(),
				facts...)
		case c.Stray != "" && cleaned == nil:
			j.add(diagnosis.StrayCharacters, "there is "+c.Stray+" in the credential", "store it without: "+j.rotate(), facts...)
		case c.NoScheme && (r.Scheme || strings.HasPrefix(strings.ToLower(r.Headers), "bearer") && r.Code != "invalid_token"):
			j.add(diagnosis.SchemeMissing, "the server wants a word like Bearer before the credential, and there is none",
				j.update("--secret-header ''"), facts...).
				fix("secretHeader", "", "sends the credential as a bearer token")
		case c.Basic != "":
			j.add(
				diagnosis.TokenRejected,
				"the credential for the scheme Basic cannot be read: "+c.Basic,
				"store the base64 of NAME:PASSWORD: "+j.rotate(),
				facts...)
		default:
			continue
		}
		return true
	}
	return false
}

// words names what the server says itself.
func (j authJudge) words(x *evidence.Exchange, r refusal.Refusal) bool {
	facts := []string{x.Told()}
	was := j.sent()[0]
	store := "get a new one, and store it: " + j.rotate()
	switch {
	case r.NotYet && !r.Expired, r.Expired && j.skewed(x):
		j.clock(x, facts)
	case r.Expired:
		j.add(diagnosis.TokenExpired, "the credential has ended"+j.ended()+said(x), store, facts...)
	case r.Revoked:
		j.add(diagnosis.TokenRevoked, "the credential was revoked"+said(x), store, facts...)
	case r.Audience:
		j.audience(facts)
	case r.Environment && !r.Quota:
		j.add(
			diagnosis.OtherEnvironment,
			"the credential is for another environment"+prefixed(was)+said(x),
			"store the one of this environment: "+j.rotate(),
			facts...)
	case r.Scopes != "":
		j.scope(r, facts)
	case r.Quota:
		j.add(diagnosis.Quota, "a quota or a plan is used up"+said(x), "look at the plan that the credential belongs to", facts...)
	case r.Missing != "" && !strings.EqualFold(r.Missing, was.Header):
		j.add(
			diagnosis.WrongHeader,
			fmt.Sprintf("the server reads the credential from the header %s, and it is sent in %s%s", r.Missing, was.Header, said(x)),
			j.update("--secret-header "+r.Missing),
			facts...)
	case r.Scheme && was.Scheme != "" && refusal.WantedScheme(x, r) != "" && !strings.EqualFold(refusal.WantedScheme(x, r), was.Scheme):
		word := refusal.WantedScheme(x, r)
		j.add(diagnosis.SchemeOther, fmt.Sprintf("the server wants the word %s before the credential, and gets %s", word, was.Scheme),
			j.update("--also 'header:Authorization "+word+"=SECRET'"), facts...)
	case j.stripped(x, r):
		j.add(
			diagnosis.HeaderStripped,
			fmt.Sprintf("the server says that the header %s is missing, and it was sent: something on the way takes it out", was.Header),
			"look at the proxies before the server; they must pass "+was.Header+" on",
			append(facts, j.withoutIt(x))...)
	default:
		return false
	}
	return true
}

// stripped reports whether the server says that it misses the very header that was sent.
func (j authJudge) stripped(x *evidence.Exchange, r refusal.Refusal) bool {
	was := j.sent()[0]
	if !strings.EqualFold(r.Missing, was.Header) || strings.Contains(r.Text, "invalid") || strings.Contains(r.Text, " or ") || r.Scheme {
		return false
	}
	w := j.e.Find(evidence.WithoutCredential)
	return w == nil || w.Status == x.Status && w.Body == x.Body
}

func prefixed(c evidence.Credential) string {
	if c.Environment == "" {
		return ""
	}
	return ", by its prefix for " + c.Environment
}

// ended says when a token ended, by what it says itself.
func (j authJudge) ended() string {
	for _, c := range j.sent() {
		if c.Claims != nil && !c.Claims.Expires.IsZero() && j.e.At.After(c.Claims.Expires) {
			return fmt.Sprintf(" on %s, by what it says itself", report.Date(c.Claims.Expires))
		}
	}
	return ""
}

// serverNow is what the clock of the answer says, and by how much ours differs.
func (j authJudge) serverNow(x *evidence.Exchange) (now time.Time, off time.Duration) {
	at, err := time.Parse(httpDate, x.Header["Date"])
	if err != nil {
		return j.e.At, 0
	}
	return at, at.Sub(j.e.At)
}

// skewed reports whether clocks differ so that a good token looks ended.
func (j authJudge) skewed(x *evidence.Exchange) bool {
	now, off := j.serverNow(x)
	if off.Abs() < tolerance {
		return false
	}
	for _, c := range j.sent() {
		if c.Claims != nil && !c.Claims.Expires.IsZero() {
			return j.e.At.Before(c.Claims.Expires) && now.After(c.Claims.Expires)
		}
	}
	return off > tolerance // it counts time that has not come yet
}

func (j authJudge) clock(x *evidence.Exchange, facts []string) {
	now, off := j.serverNow(x)
	title := "clocks differ: the server finds the token not valid yet" + said(x)
	if off.Abs() >= tolerance {
		title = fmt.Sprintf("clocks differ: the server's is %s off Bouncer's", off.Round(time.Second))
	}
	facts = append(facts, "it is "+report.Date(j.e.At)+" here, and "+report.Date(now)+" by the server's answer")
	for _, c := range j.sent() {
		if c.Claims == nil {
			continue
		}
		for name, at := range map[string]time.Time{"issued": c.Claims.Issued, "valid from": c.Claims.NotBefore,
			"valid until": c.Claims.Expires} {
			if !at.IsZero() {
				facts = append(facts, "by what the token says it is "+name+" "+report.Date(at))
			}
		}
	}
	slices.Sort(facts[2:])
	j.add(diagnosis.ClockSkew, title, "set the clocks of both machines by a time server", facts...)
}

func (j authJudge) audience(facts []string) {
	told := ""
	for _, c := range j.sent() {
		if c.Claims != nil && len(c.Claims.Audience) > 0 {
			told = ": it says " + strings.Join(c.Claims.Audience, ", ")
		}
	}
	j.add(
		diagnosis.WrongAudience,
		"the token is for another server"+told,
		"get one whose audience is "+shortAddress(j.e.Target.URL)+", and store it: "+j.rotate(),
		facts...)
}

func shortAddress(raw string) string {
	at, err := url.Parse(raw)
	if err != nil {
		return raw
	}
	return shortURL(at)
}

func (j authJudge) scope(r refusal.Refusal, facts []string) {
	has := ""
	for _, c := range j.sent() {
		if c.Claims != nil && len(c.Claims.Scopes) > 0 {
			has = "; it has " + strings.Join(c.Claims.Scopes, " ")
		}
	}
	title := "the token lacks a scope" + has
	remedy := "get one with the scope that the server names, and store it: " + j.rotate()
	if r.Scopes != "?" {
		title = "the token lacks the scope " + r.Scopes + has
		remedy = "get one with the scope " + r.Scopes + ", and store it: " + j.rotate()
		if j.e.Target.SignIn {
			remedy = j.update("--scope "+report.Quoted(r.Scopes)) + ", and sign in again: " + j.signIn()
		}
	}
	j.add(diagnosis.ScopeMissing, title, remedy, facts...)
}

// claims names what the token says of itself and the server does not say.
func (j authJudge) claims(x *evidence.Exchange, r refusal.Refusal) bool {
	now, _ := j.serverNow(x)
	for _, c := range j.sent() {
		if c.Environment != "" && j.otherEnvironment(c.Environment) {
			j.add(
				diagnosis.OtherEnvironment,
				"the credential is for another environment"+prefixed(c),
				"store the one of this environment: "+j.rotate(),
				x.Told(),
			)
			return true
		}
		if c.Claims == nil {
			continue
		}
		t := c.Claims
		switch {
		case !t.NotBefore.IsZero() && now.Add(tolerance).Before(t.NotBefore),
			!t.Issued.IsZero() && now.Add(tolerance).Before(t.Issued),
			j.skewed(x):
			j.clock(x, []string{x.Told()})
		case !t.Expires.IsZero() && j.e.At.After(t.Expires):
			j.add(diagnosis.TokenExpired, "the credential has ended"+j.ended(), "get a new one, and store it: "+j.rotate(), x.Told())
		case x.Status == 401 && len(t.Audience) > 0 && j.elsewhereAudience(t.Audience):
			j.audience([]string{x.Told()})
		default:
			continue
		}
		return true
	}
	return false
}

// otherEnvironment reports whether the address says that it is another environment than
// a key's prefix does.
func (j authJudge) otherEnvironment(of string) bool {
	at, err := url.Parse(j.e.Target.URL)
	if err != nil {
		return false
	}
	host := strings.ToLower(at.Host + at.Path)
	trial := slices.ContainsFunc([]string{"sandbox", "staging", "test", "dev."}, func(s string) bool { return strings.Contains(host, s) })
	live := slices.Contains([]string{"live", "prod", "production"}, of)
	return trial == live && (trial || strings.Contains(host, "live") || strings.Contains(host, "prod"))
}

// elsewhereAudience reports whether every audience is an address of another host.
func (j authJudge) elsewhereAudience(list []string) bool {
	at, err := url.Parse(j.e.Target.URL)
	if err != nil {
		return false
	}
	for _, a := range list {
		u, err := url.Parse(a)
		if err != nil || u.Host == "" || u.Hostname() == at.Hostname() {
			return false
		}
	}
	return true
}

func (j authJudge) forbidden(x *evidence.Exchange, r refusal.Refusal) {
	facts := []string{x.Told(), j.withoutIt(x)}
	if r.Address {
		j.add(
			diagnosis.NotAllowed,
			"the server refuses to be reached from here (403)"+said(x),
			"have the address of the machine where Bouncer runs allowed",
			facts...)
		return
	}
	j.add(diagnosis.NotAllowed, fmt.Sprintf("the server knows the credential, and forbids this (%d)%s", x.Status, said(x)),
		"ask the server's operator for the permission, or store the credential of somebody who has it: "+j.rotate(), facts...)
}
