// Package checkup looks at one tool server: step by step on the way to it, with its own
// requests and its own process, so that what goes wrong is seen where it goes wrong. It
// collects evidence, tells look-alikes apart by further harmless probes (opening a
// conversation, listing, plain GET), and lets core/diagnosis judge. A tool is called only
// when that was asked for, and nothing stays behind.
package checkup

import (
	"bytes"
	"context"
	"fmt"
	"net/netip"
	"net/url"
	"runtime"
	"strings"
	"time"

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

// How long things are waited for, unless Options.Patience says otherwise.
const (
	usualPatience = 15 * time.Second
	usualStart    = 30 * time.Second
	connectTime   = 10 * time.Second
	probeTime     = 5 * time.Second // for what is only tried to tell look-alikes apart
	getTime       = 2 * time.Second // for a plain GET, which servers answer at once or never
	streamTime    = 250 * time.Millisecond
)

// Run looks at a target. It returns what was found: an error only when ctx has ended, or
// when Bouncer itself could not look.
func Run(ctx context.Context, t Target, o Options) (verdict.Report, error) {
	r := newRun(t, o)
	defer r.small()
	began := time.Now()
	if t.Missing != "" {
		r.evidence.Target.Missing = t.Missing
		r.stage("settings", outcomeFailed, 0, t.Missing)
	} else {
		var err error
		if t.Server.Transport == team.Stdio {
			err = r.lookAtProcess(ctx)
		} else {
			err = r.lookAtAddress(ctx)
		}
		if err == nil {
			err = ctx.Err()
		}
		if err != nil {
			return verdict.Report{}, fmt.Errorf("look at %s: %w", t.named(), err)
		}
	}
	return r.report(time.Since(began)), nil
}

func (t Target) named() string {
	switch {
	case t.Registered:
		return t.Server.Name
	case t.Server.Transport == team.Stdio:
		return strings.Join(append([]string{t.Server.Command}, t.Server.Args...), " ")
	}
	return t.Server.URL
}

// run is one checkup under way. It belongs to one goroutine.
type run struct {
	t        Target
	o        Options
	evidence *evidence.Evidence
	secrets  []string // what is masked wherever it comes back
	masker   *mask.Masker
	stages   []verdict.StageReport
	nextID   uint64
	large    bool // it holds one of the places for large answers
}

// big takes one of the places for large answers, for the rest of the checkup; false when
// ctx ended before there was one.
func (r *run) big(ctx context.Context) bool {
	if r.large || r.o.Large == nil {
		return true
	}
	select {
	case r.o.Large <- struct{}{}:
		r.large = true
		return true
	case <-ctx.Done():
		return false
	}
}

// small gives it back, when what was read is collected: the next one reads as much.
func (r *run) small() {
	if r.large {
		runtime.GC()
		<-r.o.Large
	}
}

func newRun(t Target, o Options) *run {
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
	r := &run{t: t, o: o}
	r.learn(t.Credential.Secret.Reveal())
	if c := t.Client; c != nil {
		r.learn(c.Secret, c.RefreshToken)
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
	r.evidence = &evidence.Evidence{Target: target, At: time.Now().UTC()}
	return r
}

// learn has values masked from now on wherever it comes back.
func (r *run) learn(values ...string) {
	r.secrets = append(r.secrets, values...)
	r.masker = mask.New(r.secrets)
}

func (r *run) tell(stage, what string) {
	if r.o.Progress != nil {
		r.o.Progress(stage, what)
	}
}

func (r *run) id() uint64 {
	r.nextID++
	return r.nextID
}

// The outcomes of stages.
const (
	outcomeOK      = verdict.OutcomeOK
	outcomeFailed  = verdict.OutcomeFailed
	outcomeSkipped = verdict.OutcomeSkipped
)

func (r *run) stage(name, outcome string, d time.Duration, facts ...string) {
	kept := []string{}
	for _, f := range facts {
		if f != "" {
			kept = append(kept, f)
		}
	}
	r.stages = append(
		r.stages,
		verdict.StageReport{Name: name, Outcome: outcome, MS: int(d.Round(time.Millisecond).Milliseconds()), Facts: kept},
	)
}

// order are the stages on the way to an address, and to a process.
var (
	ofAddress = []string{"settings", "address", "tls", "http", "transport", "authorization", "protocol", "listing", "call"}
	ofProcess = []string{"settings", "launch", "protocol", "listing", "call"}
)

// report judges what was collected.
func (r *run) report(took time.Duration) verdict.Report {
	e := r.evidence
	out := verdict.Report{
		Target: r.t.named(), At: e.At, MS: int(took.Milliseconds()), Findings: verdict.Judge(e), Transport: e.Target.Transport,
	}
	out.Healthy = len(out.Findings) == 0
	if out.Findings == nil {
		out.Findings = []verdict.Found{}
	}
	if s := e.Session; s != nil {
		out.Revision, out.Name, out.Version, out.Tools = s.Revision, r.short(s.Name), r.short(s.Version), len(s.Tools)
	}
	r.mark(out.Findings)
	order := ofAddress
	if r.t.Server.Transport == team.Stdio {
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
			out.Stages = append(out.Stages, verdict.StageReport{Name: name, Outcome: outcomeSkipped, Facts: []string{}})
			continue
		}
		out.Stages = append(out.Stages, r.stages[at])
	}
	return out
}

// mark has the stage of each cause failed, and what comes after the first of them that
// was not reached skipped.
func (r *run) mark(found []verdict.Found) {
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
				r.stages[i].Outcome, known = outcomeFailed, true
			}
		}
		if !known {
			r.stage(layer, outcomeFailed, 0)
		}
		if !r.opened() && len(found[i].Follows) == 0 && layer != "listing" && layer != "call" {
			found[i].Follows = append(found[i].Follows, "no conversation could be opened, so nothing was listed")
		}
	}
}

func (r *run) opened() bool { return r.evidence.Session != nil && r.evidence.Session.Opened }

// short makes a server's own words fit to be shown: masked, one line, bounded.
func (r *run) short(s string) string {
	text, cut := r.masker.Cut(strings.Join(strings.Fields(s), " "), 300)
	if cut {
		text += "…"
	}
	return text
}

// beginning is the first bytes of what a server sent, masked before they are cut: half a
// secret is not recognised.
func (r *run) beginning(raw []byte, most int) string {
	text, _ := r.masker.Cut(string(raw[:min(len(raw), most+r.masker.Longest()+1024)]), most)
	return text
}

// quote is the beginning of what came, for people.
func (r *run) quote(shape evidence.Shape, raw []byte) string {
	if shape == evidence.Wide {
		raw = bytes.ReplaceAll(raw[:min(len(raw), 64<<10)], []byte{0}, nil)
	}
	return r.short(evidence.Quoted([]byte(r.beginning(raw, 1<<10))))
}

// lookAtAddress goes the way to an address, as far as it leads.
func (r *run) lookAtAddress(ctx context.Context) error {
	at := parsed(r.t.Server.URL)
	if at == nil {
		r.stage("settings", outcomeFailed, 0, "the address is "+r.t.Server.URL)
		return nil
	}
	r.stage("settings", outcomeOK, 0, "the address is "+r.t.Server.URL)
	w := &way{run: r, at: at}
	return w.travel(ctx)
}

// parsed is an address that can be gone to; nil for any other, which is judged.
func parsed(address string) *url.URL {
	at, err := url.Parse(address)
	if err != nil || at.Host == "" || (at.Scheme != "http" && at.Scheme != "https") {
		return nil
	}
	return at
}
