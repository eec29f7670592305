package verdict

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"bouncer/internal/core/diagnosis"
	"bouncer/internal/core/evidence"
	"bouncer/internal/core/refusal"
	"bouncer/internal/core/report"
)

// oauthJudge judges authorization servers: discovery, registration, tokens.
type oauthJudge struct{ *judge }

// oauth names which step of OAuth goes wrong; true when it found something.
func (j oauthJudge) oauth(x *evidence.Exchange) bool {
	for i := range j.e.OAuth {
		s := &j.e.OAuth[i]
		var found bool
		switch s.What {
		case evidence.ResourceStep:
			found = j.resourceStep(s, x)
		case evidence.AuthorityStep:
			found = j.authorityStep(s, x)
		case evidence.RegisterStep:
			found = j.registerStep(s)
		case evidence.AuthorizeStep:
			found = j.authorizeStep(s)
		case evidence.TokenStep, evidence.RefreshStep:
			found = j.tokenStep(s)
		}
		if found {
			return true
		}
	}
	return false
}

func (j oauthJudge) resourceStep(s *evidence.OAuthStep, x *evidence.Exchange) bool {
	facts := []string{x.Told(), s.Told()}
	switch {
	case s.Status != 0 && s.Status != 200, s.Failed():
		j.add(diagnosis.ResourceMetadata, "the server wants a sign-in, and the metadata that it points to cannot be had",
			"have the document served that the server names (RFC 9728)", facts...).follows("nobody can sign in")
	case s.Malformed:
		j.add(diagnosis.ResourceMetadata, "the server's resource metadata is no JSON", "have the document corrected (RFC 9728)", facts...).
			follows("nobody can sign in")
	case s.Resource != "" && s.Expected != "":
		j.add(
			diagnosis.ResourceMetadata,
			fmt.Sprintf("the server's resource metadata is for %s, and the address is %s", s.Resource,
				s.Expected),
			"have its member resource corrected, or use the address that it names: "+j.update(
				"--url "+report.Quoted(s.Resource),
			),
			facts...).
			follows("nobody can sign in")
	case len(s.Servers) == 0:
		j.add(diagnosis.ResourceMetadata, "the server's resource metadata names no authorization server",
			"have its member authorization_servers filled in (RFC 9728)",
			facts...).
			follows("nobody can sign in")
	default:
		return false
	}
	return true
}

func (j oauthJudge) authorityStep(s *evidence.OAuthStep, x *evidence.Exchange) bool {
	facts := []string{x.Told(), s.Told()}
	why := ""
	switch {
	case s.Failed() || s.Status >= 500:
		why = "cannot be had"
	case s.Status != 200:
		why = fmt.Sprintf("is not there (%d)", s.Status)
	case s.Malformed:
		why = "is no JSON"
	case s.Expected != "":
		why = fmt.Sprintf("says that it is of %s, and %s was asked", s.Issuer, s.Expected)
	case s.Token == "" || s.Authorize == "" && !slices.Contains(s.Methods, "none needed"):
		why = "lacks an endpoint"
	case len(s.Methods) > 0 && !slices.Contains(s.Methods, "S256") && s.Authorize != "":
		why = "offers no proof of the code by S256 (RFC 7636)"
	default:
		return false
	}
	j.add(diagnosis.AuthorityMetadata, "the authorization server's metadata "+why,
		"have the document corrected that the authorization server serves (RFC 8414)", facts...).
		follows("nobody can sign in")
	return true
}

func (j oauthJudge) registerStep(s *evidence.OAuthStep) bool {
	if s.Err == nil && !s.Timeout && (s.Status == 201 || s.Status == 200) {
		return false
	}
	j.add(diagnosis.ClientRefused, "the authorization server registers no client by itself"+worded(s),
		"have a client registered by hand, and give it: "+j.update("--client-id ID"), s.Told()).follows("nobody can sign in")
	return true
}

func worded(s *evidence.OAuthStep) string {
	if s.Text != "" {
		return ": " + s.Text
	}
	return ""
}

var (
	redirectWords = regexp.MustCompile(`(?i)redirect[_ ]?ur[il]|redirect address|callback|reply (?:url|address)`)
	clientWords   = regexp.MustCompile(
		`(?i)(?:unknown|invalid|unregistered|no such|not found|disabled|unrecognized)[^.]{0,20}(?:client|application)|` +
			`(?:client|application)[^.]{0,30}(?:unknown|invalid|not (?:found|registered|exist)|disabled|unrecognized|does not exist)|invalid_client|unauthorized_client`,
	)
)

func (j oauthJudge) authorizeStep(s *evidence.OAuthStep) bool {
	text := s.Code + " " + s.Text + " " + s.Location
	switch {
	case s.Failed() || s.Status >= 500:
		j.add(
			diagnosis.AuthorityFails,
			"the authorization server fails when somebody is to sign in"+worded(s),
			"look into its log",
			s.Told(),
		)
	case redirectWords.MatchString(s.Code+" "+s.Text) && (s.Status >= 400 || s.Code != ""):
		j.add(diagnosis.RedirectMismatch, "the authorization server does not know Bouncer's address as one of the client's",
			"have "+s.Expected+" added to the redirect addresses of the client", s.Told()).follows("nobody can sign in")
	case clientWords.MatchString(text):
		j.add(diagnosis.ClientWrong, "the authorization server does not know the client"+worded(s), j.update("--client-id ID"), s.Told()).
			follows("nobody can sign in")
	case s.Code == "invalid_scope":
		j.add(
			diagnosis.ScopeMissing,
			"the authorization server does not give a scope that is asked for"+worded(s),
			j.update("--scope 'SCOPE'"),
			s.Told(),
		)
	case s.Status >= 400:
		j.add(
			diagnosis.AuthorityFails,
			fmt.Sprintf("the authorization server refuses to begin a sign-in (%d)%s", s.Status, worded(s)),
			"look into its log",
			s.Told(),
		)
	default:
		return false
	}
	return true
}

func (j oauthJudge) tokenStep(s *evidence.OAuthStep) bool {
	if !s.Failed() && s.Status == 200 {
		return false
	}
	text := strings.ToLower(s.Code + " " + s.Text)
	refresh := s.What == evidence.RefreshStep
	switch {
	case s.Failed() || s.Status >= 500:
		j.add(
			diagnosis.AuthorityFails,
			"the authorization server fails when a token is asked for"+worded(s),
			"look into its log",
			s.Told(),
		)
	case refusal.SaysNotYet(text):
		j.add(
			diagnosis.ClockSkew,
			"clocks differ, the authorization server says"+worded(s),
			"set the clocks of both machines by a time server",
			s.Told(),
		)
	case s.Code == "invalid_client" || s.Code == "unauthorized_client" || s.Status == 401:
		j.add(diagnosis.ClientWrong, "the authorization server does not accept the client's id and secret"+worded(s),
			j.update("--client-id ID --client-secret SECRET"), s.Told())
	case s.Code == "invalid_scope":
		j.add(
			diagnosis.ScopeMissing,
			"the authorization server does not give a scope that is asked for"+worded(s),
			j.update("--scope 'SCOPE'"),
			s.Told(),
		)
	case s.Code == "invalid_target" || refusal.SaysAudience(text):
		j.add(
			diagnosis.WrongAudience,
			"the authorization server gives no token for this server"+worded(s),
			"have "+shortAddress(j.e.Target.URL)+" allowed there",
			s.Told(),
		)
	case refresh:
		j.add(diagnosis.SignInEnded, "the sign-in has ended and cannot be renewed"+worded(s), "sign in again: "+j.signIn(), s.Told())
	case redirectWords.MatchString(text):
		j.add(diagnosis.RedirectMismatch, "the authorization server does not know Bouncer's address as one of the client's",
			"have "+s.Expected+" added to the redirect addresses of the client", s.Told())
	default:
		j.add(
			diagnosis.AuthorityFails,
			fmt.Sprintf("the authorization server gives no token (%d)%s", s.Status, worded(s)),
			"look into its log",
			s.Told(),
		)
	}
	return true
}
