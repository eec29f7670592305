package enrol

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"strings"
	"time"

	"bouncer/internal/core/configfile"
	"bouncer/internal/core/diagnosis"
	"bouncer/internal/core/dialect"
	"bouncer/internal/core/looks"
	"bouncer/internal/core/paste"
)

// What can be wrong with an enrolment.
const (
	FileMissing   = "file-missing"
	FileMalformed = "file-malformed"
	EntryMissing  = "entry-missing"
	EntryElse     = "entry-elsewhere" // under a key that the assistant does not read
	EntryStale    = "entry-stale"     // another address, or another command
	EntryOff      = "entry-off"
	EntryShadowed = "entry-shadowed" // a file of another scope has one of the same name
	PassRevoked   = "pass-revoked"
	PassEnded     = "pass-ended"
	PassEnds      = "pass-ends"
	PassMissing   = "pass-missing" // the file that holds it
	SecretInFile  = "secret-in-file"
	ServerDirect  = "server-direct" // the same server, past Bouncer
	OthersRead    = "others-read"
)

// Problem is something that is wrong with a file.
type Problem struct {
	Path  string `json:"path"`
	Agent string `json:"agent"`
	Cause string `json:"cause"`
	What  string `json:"what"`
	Fix   string `json:"fix"`
	// Mended is the text of a malformed file that can be read, where that is plain.
	Mended string `json:"mended,omitempty"`
}

// stands are the problems that keep an assistant from working, with their causes.
var stands = map[string]diagnosis.Cause{
	FileMissing: diagnosis.EntryMissing, FileMalformed: diagnosis.FileMalformed, EntryMissing: diagnosis.EntryMissing,
	EntryElse: diagnosis.EntryElsewhere, EntryStale: diagnosis.EntryStale, EntryOff: diagnosis.EntryStale,
	EntryShadowed: diagnosis.EntryStale, PassRevoked: diagnosis.OldPass, PassEnded: diagnosis.OldPass, PassMissing: diagnosis.OldPass,
}

// Stands returns the cause of a problem that keeps the assistant from working; ok is false
// for one that does not.
func (p Problem) Stands() (cause diagnosis.Cause, ok bool) {
	cause, ok = stands[p.Cause]
	return cause, ok
}

// Facts are what the service knows.
type Facts struct {
	Address string
	// Pass tells about a pass; ok is false when it is not there.
	Pass func(agent, id string) (state string, ends time.Time, ok bool)
	// Registered tells the name of the server that is registered with an address or a
	// command; "" for none.
	Registered func(e dialect.Entry) string
	Now        time.Time
}

// soon is how long before its end a pass is worth mentioning.
const soon = 7 * 24 * time.Hour

// Check tells what is wrong with the file of an enrolment.
func (m Machine) Check(e Enrolment, facts Facts) (out []Problem) {
	say := func(cause, what, fix string) {
		out = append(out, Problem{Path: e.Path, Agent: e.Agent, Cause: cause, What: what, Fix: fix})
	}
	again := fmt.Sprintf("bouncer enrol %s --config %s --yes", e.Agent, e.Path)
	raw, err := os.ReadFile(e.Path)
	if errors.Is(err, fs.ErrNotExist) {
		say(FileMissing, "the file is gone", again)
		return out
	}
	if err != nil {
		say(FileMissing, "the file cannot be read: "+err.Error(), "check its permissions")
		return out
	}
	f, err := configfile.Parse(raw, e.Dialect.Syntax)
	if err != nil {
		say(FileMalformed, err.Error(), "mend it there; the assistant reads none of it until then")
		out[0].Mended = mended(string(raw), e.Dialect.Syntax)
		return out
	}
	m.checkEntry(e, f, facts, again, say)
	m.checkOthers(e, f, facts, say)
	e.checkPass(facts, say)
	if info, err := os.Stat(e.Path); err == nil && e.As == AsPass && info.Mode().Perm()&0o077 != 0 && holdsPass(f, e) {
		say(OthersRead, "others on this machine can read the pass in it", "chmod 600 "+e.Path)
	}
	return out
}

// mended is a text that can be read, where only the end is missing.
func mended(text string, syntax configfile.Syntax) string {
	if syntax != configfile.JSON {
		return ""
	}
	fixed, notes := paste.Mend(text)
	if len(notes) == 0 {
		return ""
	}
	if _, err := configfile.Parse([]byte(fixed), syntax); err != nil {
		return ""
	}
	return fixed
}

func holdsPass(f *configfile.File, e Enrolment) bool {
	entry, ok := e.Dialect.Find(f, e.Entry)
	return ok && len(entry.Headers) > 0 && looks.Secret("", strings.TrimPrefix(entry.Headers[0].Value, "Bearer ")) != ""
}

func (m Machine) checkEntry(e Enrolment, f *configfile.File, facts Facts, again string, say func(cause, what, fix string)) {
	entry, ok := e.Dialect.Find(f, e.Entry)
	if !ok {
		for _, other := range dialect.Learn(f, "other") {
			if f.Find(other.Dialect.At(e.Entry)) != nil {
				say(
					EntryElse,
					fmt.Sprintf("the entry stands in %s; the assistant reads %s", other.Dialect.Servers, e.Dialect.Servers),
					again,
				)
				return
			}
		}
		say(EntryMissing, fmt.Sprintf("the entry %s is not in %s any more", e.Entry, e.Dialect.Servers), again)
		return
	}
	want := facts.Address + "/mcp"
	if e.Server != "" {
		want += "/" + e.Server
	}
	switch {
	case entry.Off:
		say(EntryOff, "the entry is switched off in the file", "switch it on there: "+e.Dialect.Off.Field)
	case e.As == AsBridge && entry.Command == "":
		say(EntryStale, "the entry no longer starts the bridge", again)
	case e.As == AsBridge && !strings.Contains(strings.Join(entry.Args, " "), facts.Address):
		say(EntryStale, "the bridge is sent to another address than "+facts.Address, again)
	case e.As != AsBridge && entry.URL != want:
		say(EntryStale, fmt.Sprintf("the entry has the address %s, and the service is at %s", entry.URL, want), again)
	case e.As == AsPass && len(entry.Headers) == 0:
		say(EntryStale, "the entry shows no pass any more", again)
	}
	known, _ := m.Known()
	for _, found := range m.Find(known) {
		if found.Dialect.Name != e.Dialect.Name || same(found.Path, e.Path) || found.Scope != dialect.ScopeProject {
			continue
		}
		raw, err := os.ReadFile(found.Path)
		if err != nil {
			continue // it is none of ours
		}
		other, err := configfile.Parse(raw, found.Dialect.Syntax)
		if err == nil && other.Find(found.Dialect.At(e.Entry)) != nil {
			what := found.Path + " has an entry of the same name, which wins in that project"
			say(EntryShadowed, what, "take it out there, or enrol that file as well")
		}
	}
}

// checkOthers looks at the entries that are not Bouncer's.
func (m Machine) checkOthers(e Enrolment, f *configfile.File, facts Facts, say func(cause, what, fix string)) {
	adopt := fmt.Sprintf("bouncer adopt --agent %s --config %s", e.Agent, e.Path)
	for _, other := range e.Dialect.Entries(f) {
		if other.Name == e.Entry || other.Off {
			continue
		}
		if facts.Registered != nil {
			if name := facts.Registered(other); name != "" {
				say(ServerDirect, fmt.Sprintf("%s reaches server %s past Bouncer (line %d)", other.Name, name, other.Line), adopt)
			}
		}
		if field := SecretOf(other); field != "" {
			say(SecretInFile, fmt.Sprintf("the entry %s holds a secret in %s (line %d)", other.Name, field, other.Line), adopt)
		}
	}
}

// SecretOf is where an entry holds a secret in the open; "" for nowhere.
func SecretOf(e dialect.Entry) string {
	for _, list := range [][]dialect.Value{e.Env, e.Headers} {
		for _, v := range list {
			bare := v.Value
			if scheme, rest, ok := strings.Cut(bare, " "); ok && len(scheme) < 12 {
				bare = rest
			}
			if looks.Secret(v.Name, bare) != "" {
				return v.Name
			}
		}
	}
	for i, arg := range e.Args {
		name, value, ok := strings.Cut(arg, "=")
		if !ok && i > 0 {
			name, value = e.Args[i-1], arg
		}
		if looks.Secret(strings.TrimLeft(name, "-"), value) != "" {
			return "the argument " + name
		}
	}
	return ""
}

func (e Enrolment) checkPass(facts Facts, say func(cause, what, fix string)) {
	again := fmt.Sprintf("bouncer enrol %s --config %s --yes", e.Agent, e.Path)
	if e.PassFile != "" {
		if _, err := os.Stat(e.PassFile); err != nil {
			say(PassMissing, "the file with the pass is gone: "+e.PassFile, again)
		}
	}
	if e.PassID == "" || facts.Pass == nil {
		return
	}
	state, ends, ok := facts.Pass(e.Agent, e.PassID)
	switch {
	case !ok || state == "revoked":
		say(PassRevoked, "the pass in it was revoked", again)
	case state == "expired":
		say(PassEnded, "the pass in it ended on "+ends.Local().Format(time.DateOnly), again)
	case ends.Sub(facts.Now) < soon:
		say(PassEnds, "the pass in it ends on "+ends.Local().Format("2006-01-02 15:04"), again)
	}
}
