package verdict

import (
	"slices"

	"bouncer/internal/core/diagnosis"
	"bouncer/internal/core/evidence"
	"bouncer/internal/core/report"
)

// Judge names the causes behind what a checkup observed: none for a healthy server. It
// is a pure function. Causes that hinder everything come alone; what a conversation shows
// can be several.
func Judge(e *evidence.Evidence) []report.Found {
	j := &judge{e: e}
	switch {
	case e.Target.Missing != "":
		j.missing()
	case e.Target.Command != "":
		j.ofProcess().process()
	default:
		j.ofAddress().address()
	}
	if len(j.found) == 0 && e.Session != nil {
		j.ofSession().session()
	}
	if len(j.found) == 0 || e.Session != nil && e.Session.Listed {
		j.ofSession().call()
	}
	for i := range j.found {
		j.found[i].Evidence = slices.Compact(j.found[i].Evidence)
		if j.found[i].Follows == nil {
			j.found[i].Follows = []string{}
		}
	}
	return j.found
}

// judge collects findings about one target.
type judge struct {
	e     *evidence.Evidence
	found []report.Found
}

// Each layer has a judge of its own, over the same evidence and the same findings.
func (j *judge) ofAddress() addressJudge { return addressJudge{j} }
func (j *judge) ofHTTP() httpJudge       { return httpJudge{j} }
func (j *judge) ofAuth() authJudge       { return authJudge{j} }
func (j *judge) ofOAuth() oauthJudge     { return oauthJudge{j} }
func (j *judge) ofProcess() processJudge { return processJudge{j} }
func (j *judge) ofSession() sessionJudge { return sessionJudge{j} }

// draft is a finding that is being written.
type draft struct{ *report.Found }

// add adds a finding; who acts is what is usual for the cause.
func (j *judge) add(cause diagnosis.Cause, title, remedy string, facts ...string) draft {
	facts = slices.DeleteFunc(facts, func(s string) bool { return s == "" })
	if facts == nil {
		facts = []string{}
	}
	j.found = append(j.found, report.Found{Cause: cause, Title: title, Who: cause.WhoActs(), Remedy: remedy, Evidence: facts})
	return draft{&j.found[len(j.found)-1]}
}

// follows adds symptoms.
func (f draft) follows(symptoms ...string) draft {
	f.Follows = append(f.Follows, symptoms...)
	return f
}

// by says that somebody else acts than is usual.
func (f draft) by(who diagnosis.Who) draft {
	f.Who = who
	return f
}

// fix adds what can be applied.
func (f draft) fix(field, value, means string) draft {
	f.Fix = &report.Fix{Field: field, Value: value, Means: means}
	return f
}

// update is how a setting is given: a command for what is registered, and a flag for what is not.
func (j *judge) update(flags string) string {
	if j.e.Target.Server != "" {
		return "bouncer server update " + j.e.Target.Server + " " + flags
	}
	return "give it as " + flags
}

// rotate is how another credential is given.
func (j *judge) rotate() string {
	if j.e.Target.Server != "" {
		return "bouncer server update " + j.e.Target.Server + " --token"
	}
	return "give the new one with --token"
}

// missing is about what Bouncer itself lacks before it can ask; its own renewal may know why.
func (j *judge) missing() {
	f := j.e.Target.Unusable
	switch {
	case f != nil && f.Cause == diagnosis.SignInEnded:
		j.add(f.Cause, f.Message, j.signIn())
	case f != nil && f.Cause != diagnosis.ValueMissing:
		j.add(f.Cause, f.Message, f.Remedy)
	case j.e.Target.SignIn:
		j.add(diagnosis.SignInNeeded, j.e.Target.Missing, j.signIn())
	default:
		j.add(diagnosis.ValueMissing, j.e.Target.Missing, "see where it comes from: bouncer secret list")
	}
}

func (j *judge) signIn() string {
	if j.e.Target.Server != "" {
		return "bouncer sign-in begin " + j.e.Target.Server
	}
	return "register it with --sign-in code"
}
