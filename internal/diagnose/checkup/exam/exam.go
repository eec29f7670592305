// Package exam is what a checkup is given, and where it puts what it sees: the target, the
// evidence, the stages, and what the server's own words are masked with. It speaks the
// protocol in a conversation that others have opened: it lists, and calls a tool where that
// was asked for.
package exam

import (
	"bytes"
	"context"
	"net/netip"
	"runtime"
	"strings"
	"time"

	"bouncer/internal/core/report"
	"bouncer/internal/core/verdict"

	"bouncer/internal/core/evidence"
	"bouncer/internal/core/mask"
	"bouncer/internal/core/team"
	"bouncer/internal/core/wire"
	"bouncer/internal/link"
	"bouncer/internal/spawn"
)

// Target is what is looked at.
type Target struct {
	Server team.Server
	// Registered says that the server is registered under its name.
	Registered bool
	// Detect says that the transport of an address is to be found out.
	Detect     bool
	Credential link.Credential
	// Missing says why there is no credential though there should be; "" for nothing.
	Missing string
	// Client is what is tried at the authorization server; nil for no more than to read its
	// documents.
	Client *Client
	Call   *Call
}

// How long things are waited for, unless Options.Patience says otherwise.
const (
	usualPatience = 15 * time.Second
	usualStart    = 30 * time.Second
)

// MaxTimes bounds how often one checkup calls a tool.
const MaxTimes = 100

// Client is an OAuth client that was given by hand.
type Client struct {
	ID, Secret   string
	RefreshToken string
	Scope        string
	Issuer       string // the authorization server, where the server names none
	Redirect     string // Bouncer's address for answers
	Machine      bool   // it gets tokens with its own credentials
}

// Call is a call that is made when everything before it went well.
type Call struct {
	Tool      string
	Arguments []byte // JSON; nil for {}
	Times     int    // 0 means once; no more than MaxTimes
}

// Options bound a checkup; the zero value is the default.
type Options struct {
	Version  string        // Bouncer's own, told to servers
	Patience time.Duration // for each answer; 0 means 15 s, and 30 s for a process to start
	// MessageLimit is in bytes; 0 means 16 MiB.
	MessageLimit int
	Spawner      *spawn.Spawner // nil starts processes without bounds
	// Private are private ranges in which what a server names is reached, besides the
	// server's own host and those of the server.
	Private []netip.Prefix
	// Large has a place for each checkup that may read large answers at the same time; nil
	// for no bound.
	Large chan struct{}
	// Progress is told what is being done, before it is done; nil for nobody.
	Progress func(stage, what string)
}

// Named is what a target is called.
func (t Target) Named() string {
	switch {
	case t.Registered:
		return t.Server.Name
	case t.Server.Transport == team.Stdio:
		return strings.Join(append([]string{t.Server.Command}, t.Server.Args...), " ")
	}
	return t.Server.URL
}

// Run is one checkup under way. It belongs to one goroutine.
type Run struct {
	Target   Target
	Options  Options
	Evidence *evidence.Evidence
	Masker   *mask.Masker
	secrets  []string // what is masked wherever it comes back
	stages   []report.StageReport
	nextID   uint64
	large    bool // it holds one of the places for large answers
}

// Big takes one of the places for large answers, for the rest of the checkup; false when
// ctx ended before there was one.
func (r *Run) Big(ctx context.Context) bool {
	if r.large || r.Options.Large == nil {
		return true
	}
	select {
	case r.Options.Large <- struct{}{}:
		r.large = true
		return true
	case <-ctx.Done():
		return false
	}
}

// Small gives it back, when what was read is collected: the next one reads as much.
func (r *Run) Small() {
	if r.large {
		runtime.GC()
		<-r.Options.Large
	}
}

// New begins a checkup.
func New(t Target, o Options) *Run {
	if o.MessageLimit == 0 {
		o.MessageLimit = 16 << 20
	}
	if t.Server.MessageMiB > 0 {
		o.MessageLimit = t.Server.MessageMiB << 20
	}
	s := t.Server
	patience := o.Patience
	if patience == 0 {
		patience = usualPatience
		if s.Transport == team.Stdio {
			patience = usualStart
			if s.StartSeconds > 0 {
				patience = time.Duration(s.StartSeconds) * time.Second
			}
		}
	}
	o.Patience = patience
	r := &Run{Target: t, Options: o}
	r.Learn(t.Credential.Secret.Reveal())
	if c := t.Client; c != nil {
		r.Learn(c.Secret, c.RefreshToken)
	}
	target := evidence.Target{
		Transport: s.Transport, URL: s.URL, Command: s.Command, Args: s.Args, Dir: s.Dir, Patience: patience,
		MessageLimit: o.MessageLimit, Revision: wire.NewestSession, SignIn: s.SignIn != nil,
	}
	target.Detect = t.Detect
	if t.Registered {
		target.Server = s.Name
	}
	for _, e := range s.Env {
		name, value, _ := strings.Cut(e, "=")
		target.Env = append(target.Env, name)
		if evidence.InspectCredential(evidence.Form{}, name, value).Placeholder != "" {
			target.Unset = append(target.Unset, name)
		}
	}
	r.Evidence = &evidence.Evidence{Target: target, At: time.Now().UTC()}
	return r
}

// Learn has values masked from now on wherever it comes back.
func (r *Run) Learn(values ...string) {
	r.secrets = append(r.secrets, values...)
	r.Masker = mask.New(r.secrets)
}

// Tell says what is being done, before it is done.
func (r *Run) Tell(stage, what string) {
	if r.Options.Progress != nil {
		r.Options.Progress(stage, what)
	}
}

// ID is the id of the next message.
func (r *Run) ID() uint64 {
	r.nextID++
	return r.nextID
}

// The outcomes of stages.
const (
	OK      = report.OutcomeOK
	Failed  = report.OutcomeFailed
	Skipped = report.OutcomeSkipped
)

// Stage notes how a stage went, with what was seen.
func (r *Run) Stage(name, outcome string, d time.Duration, facts ...string) {
	kept := []string{}
	for _, f := range facts {
		if f != "" {
			kept = append(kept, f)
		}
	}
	r.stages = append(
		r.stages,
		report.StageReport{Name: name, Outcome: outcome, MS: int(d.Round(time.Millisecond).Milliseconds()), Facts: kept},
	)
}

// Quietly has something looked at that tells no stages.
func (r *Run) Quietly(look func()) {
	before := r.stages
	look()
	r.stages = before
}

// order are the stages on the way to an address, and to a process.
var (
	ofAddress = []string{"settings", "address", "tls", "http", "transport", "authorization", "protocol", "listing", "call"}
	ofProcess = []string{"settings", "launch", "protocol", "listing", "call"}
)

// Report judges what was collected.
func (r *Run) Report(took time.Duration) report.Report {
	e := r.Evidence
	out := report.Report{
		Target: r.Target.Named(), At: e.At, MS: int(took.Milliseconds()), Findings: verdict.Judge(e), Transport: e.Target.Transport,
	}
	out.Healthy = len(out.Findings) == 0
	if out.Findings == nil {
		out.Findings = []report.Found{}
	}
	if s := e.Session; s != nil {
		out.Revision, out.Name, out.Version, out.Tools = s.Revision, r.Short(s.Name), r.Short(s.Version), len(s.Tools)
	}
	r.mark(out.Findings)
	order := ofAddress
	if r.Target.Server.Transport == team.Stdio {
		order = ofProcess
	}
	for _, name := range order {
		at := -1
		for i := range r.stages {
			if r.stages[i].Name == name {
				at = i
			}
		}
		if at < 0 {
			out.Stages = append(out.Stages, report.StageReport{Name: name, Outcome: Skipped, Facts: []string{}})
			continue
		}
		out.Stages = append(out.Stages, r.stages[at])
	}
	return out
}

// mark has the stage of each cause failed, and what comes after the first of them that
// was not reached skipped.
func (r *Run) mark(found []report.Found) {
	layers := map[string]string{"auth": "authorization"}
	for i := range found {
		layer, _, _ := strings.Cut(string(found[i].Cause), ".")
		if name := layers[layer]; name != "" {
			layer = name
		}
		if layer == "protocol" && r.opened() {
			layer = "listing"
		}
		known := false
		for i := range r.stages {
			if r.stages[i].Name == layer {
				r.stages[i].Outcome, known = Failed, true
			}
		}
		if !known {
			r.Stage(layer, Failed, 0)
		}
		if !r.opened() && len(found[i].Follows) == 0 && layer != "listing" && layer != "call" {
			found[i].Follows = append(found[i].Follows, "no conversation could be opened, so nothing was listed")
		}
	}
}

func (r *Run) opened() bool { return r.Evidence.Session != nil && r.Evidence.Session.Opened }

// Short makes a server's own words fit to be shown: masked, one line, bounded.
func (r *Run) Short(s string) string {
	text, cut := r.Masker.Cut(strings.Join(strings.Fields(s), " "), 300)
	if cut {
		text += "…"
	}
	return text
}

// Beginning is the first bytes of what a server sent, masked before they are cut: half a
// secret is not recognised.
func (r *Run) Beginning(raw []byte, most int) string {
	text, _ := r.Masker.Cut(string(raw[:min(len(raw), most+r.Masker.Longest()+1024)]), most)
	return text
}

// Quote is the beginning of what came, for people.
func (r *Run) Quote(shape evidence.Shape, raw []byte) string {
	if shape == evidence.Wide {
		raw = bytes.ReplaceAll(raw[:min(len(raw), 64<<10)], []byte{0}, nil)
	}
	return r.Short(evidence.Quoted([]byte(r.Beginning(raw, 1<<10))))
}
