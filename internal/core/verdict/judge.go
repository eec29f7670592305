package verdict

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"bouncer/internal/core/diagnosis"
	"bouncer/internal/core/evidence"
)

// Found is a root cause with its proof.
type Found struct {
	Cause    diagnosis.Cause `json:"cause" doc:"layer.cause, from the list of causes"`
	Title    string          `json:"title" doc:"what is wrong, in one sentence"`
	Who      diagnosis.Who   `json:"who" doc:"who has to act"`
	Remedy   string          `json:"remedy" doc:"what helps, as the exact command or field where there is one"`
	Evidence []string        `json:"evidence" doc:"what was observed"`
	Follows  []string        `json:"follows" doc:"what follows from the cause, and is none of its own"`
	Fix      *Fix            `json:"fix,omitempty" doc:"what can be applied, where that is safe"`
}

// Fix is an alteration of the registration that a checkup has tried or that cannot do
// harm.
type Fix struct {
	Field string `json:"field" doc:"field of the server that is altered"`
	Value string `json:"value" doc:"its new value"`
	Means string `json:"means" doc:"what applying it does"`
}

// Short is the finding as states, journals and errors tell it.
func (f Found) Short() diagnosis.Finding {
	return diagnosis.Finding{Cause: f.Cause, Message: f.Title, Remedy: f.Remedy, Actor: f.Who.Actor()}
}

// Judge names the causes behind what a checkup observed: none for a healthy server. It
// is a pure function. Causes that hinder everything come alone; what a conversation shows
// can be several.
func Judge(e *evidence.Evidence) []Found {
	j := &judge{e: e}
	switch {
	case e.Target.Missing != "":
		j.missing()
	case e.Target.Command != "":
		j.process()
	default:
		j.address()
	}
	if len(j.found) == 0 && e.Session != nil {
		j.session()
	}
	if len(j.found) == 0 || e.Session != nil && e.Session.Listed {
		j.call()
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
	found []Found
}

// add adds a finding; who acts is what is usual for the cause.
func (j *judge) add(cause diagnosis.Cause, title, remedy string, facts ...string) *Found {
	facts = slices.DeleteFunc(facts, func(s string) bool { return s == "" })
	if facts == nil {
		facts = []string{}
	}
	j.found = append(j.found, Found{Cause: cause, Title: title, Who: cause.WhoActs(), Remedy: remedy, Evidence: facts})
	return &j.found[len(j.found)-1]
}

// follows adds symptoms.
func (f *Found) follows(symptoms ...string) *Found {
	f.Follows = append(f.Follows, symptoms...)
	return f
}

// by says that somebody else acts than is usual.
func (f *Found) by(who diagnosis.Who) *Found {
	f.Who = who
	return f
}

// fix adds what can be applied.
func (f *Found) fix(field, value, means string) *Found {
	f.Fix = &Fix{Field: field, Value: value, Means: means}
	return f
}

// update is how a setting of the target is given: a command for what is registered, and
// a flag for what is not.
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

// quoted is a command or an argument as a shell takes it.
func quoted(s string) string {
	if s != "" && strings.IndexFunc(s, func(r rune) bool { return !strings.ContainsRune(plainInShell, r) }) < 0 {
		return s
	}
	return "'" + strings.ReplaceAll(s, "'", `'\''`) + "'"
}

const plainInShell = "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789-_./:=@%+,"

// took writes how long something took.
func took(d time.Duration) string {
	if d < 10*time.Millisecond {
		return d.Round(100 * time.Microsecond).String()
	}
	return d.Round(time.Millisecond).String()
}

// date writes a moment.
func date(t time.Time) string { return t.UTC().Format("2006-01-02 15:04:05 MST") }

// exchanged says what a request was answered with.
func exchanged(x *evidence.Exchange) string {
	if x == nil {
		return ""
	}
	sent := "without a credential"
	if len(x.Sent) > 0 {
		sent = "with " + strings.Join(x.Sent, " and ")
	}
	head := fmt.Sprintf("%s %s (%s, %s)", x.Method, x.URL, x.Purpose, sent)
	switch {
	case x.Status != 0:
		head += fmt.Sprintf(" was answered %d after %s", x.Status, took(x.Took))
		if kind := x.Header["Content-Type"]; kind != "" {
			head += ", " + kind
		}
	case x.Timeout:
		head += fmt.Sprintf(" was not answered within %s", took(x.Took))
	case x.Err != nil:
		head += fmt.Sprintf(" failed after %s: %s", took(x.Took), plain(x.Err))
	}
	if x.Status != 0 && x.Reply.Quote != "" && x.Reply.Shape != evidence.Page && !x.Opened {
		head += ": " + x.Reply.Quote
	}
	return head
}

// plain is an error without the wrapping that says what our own code did.
func plain(err error) string {
	text := err.Error()
	if i := strings.LastIndex(text, ": read tcp "); i >= 0 {
		text = text[i+2:]
	}
	return diagnosis.Clip(text)
}

// missing is about what Bouncer itself lacks before it can ask.
func (j *judge) missing() {
	if j.e.Target.SignIn {
		j.add(diagnosis.SignInNeeded, j.e.Target.Missing, j.signIn())
		return
	}
	j.add(diagnosis.ValueMissing, j.e.Target.Missing, "see where it comes from: bouncer secret list")
}

func (j *judge) signIn() string {
	if j.e.Target.Server != "" {
		return "bouncer sign-in begin " + j.e.Target.Server
	}
	return "register it with --sign-in code"
}

// FoundOf is a finding that nobody has looked at more closely.
func FoundOf(f diagnosis.Finding) Found {
	return Found{Cause: f.Cause, Title: f.Message, Remedy: f.Remedy, Who: f.Cause.WhoActs(), Evidence: []string{}, Follows: []string{}}
}
