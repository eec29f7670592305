// Package rules decides whether an agent may use a tool, and explains it.
//
// A rule has an effect (admit, hold or refuse), says for whom it is, about which tools
// and under which conditions, and may narrow what a call can say. What no rule admits
// or holds is refused; a refusal wins over a hold, and a hold over an admission. All
// that the rules which let a call through have to say about its arguments holds at once.
//
// A Set is immutable: it is compiled when rules change and read without locks from then
// on. It is narrowed in steps - to an agent (For), to what is known of a request
// (Under), to a server (On) - so that what a call costs does not depend on how many
// rules there are.
//
// Members choose what their agents are called, so that a name alone must not open
// anything: a rule for one agent is tied to its id, and a pattern of names admits
// something for those agents only whose name is confirmed. Refusals always hold. Roles,
// groups and labels are given by people who may make rules, and bind by themselves.
package rules

import (
	"encoding/json"
	"fmt"
	"net/netip"
	"regexp"
	"slices"
	"strings"
	"time"

	"bouncer/internal/core/narrowing"
)

// Effect is what a rule does with a call it matches.
type Effect string

// The effects.
const (
	Admit  Effect = "admit"
	Hold   Effect = "hold"
	Refuse Effect = "refuse"
)

// Effects lists them.
var Effects = []string{string(Admit), string(Hold), string(Refuse)}

// Terms are what a rule can say besides its effect, its globs and its note. They are
// data: written, read, exported and compared as JSON.
type Terms struct {
	Disabled bool `json:"disabled,omitempty" doc:"set for a rule that is kept but decides nothing"`

	Person   string `json:"person,omitempty" doc:"only agents of this person"`
	PersonID string `json:"personId,omitempty" doc:"id of that person; whoever has the name later is not meant"`
	Role     string `json:"role,omitempty" enum:"admin,maintainer,member,auditor" doc:"only agents of persons with this role"`
	Group    string `json:"group,omitempty" doc:"only agents of persons in this group"`
	Label    string `json:"label,omitempty" doc:"only agents with this label"`

	ServerLabel string `json:"serverLabel,omitempty" doc:"only servers with this label"`
	Hint        string `json:"hint,omitempty" doc:"only tools of this kind, by their tags or by what they say of themselves: read-only, destructive, idempotent, open-world, or one of these with not- before it"`
	Tag         string `json:"tag,omitempty" doc:"only tools with this tag"`
	Bundle      string `json:"bundle,omitempty" doc:"only tools of this bundle"`

	When     json.RawMessage `json:"when,omitempty" doc:"JSON Schema (2020-12) that the arguments of the call have to fit"`
	Window   string          `json:"window,omitempty" doc:"times at which it holds, like mon-fri 22:00-06:00 Europe/Oslo"`
	Client   string          `json:"client,omitempty" doc:"glob over the name that the program gives itself"`
	Revision string          `json:"revision,omitempty" doc:"glob over the revision of the protocol that the agent speaks"`
	Network  string          `json:"network,omitempty" doc:"range of addresses that the request comes from, like 10.20.0.0/16"`
	Presence string          `json:"presence,omitempty" enum:"present,unattended" doc:"whether the agent's person is seen in the console or the command line"`
	Begins   *time.Time      `json:"begins,omitempty" doc:"before this it decides nothing"`
	Ends     *time.Time      `json:"ends,omitempty" doc:"from then on it decides nothing"`

	Narrow      json.RawMessage            `json:"narrow,omitempty" doc:"JSON Schema (2020-12) laid over the arguments: shown to the agent, and enforced"`
	Pins        map[string]json.RawMessage `json:"pins,omitempty" doc:"arguments that Bouncer fills in; texts may hold ${person}, ${fullName}, ${agent} and ${label:NAME}"`
	Title       string                     `json:"title,omitempty" doc:"title that the agent is shown instead"`
	Description string                     `json:"description,omitempty" doc:"description that the agent is shown instead"`
	Hide        []string                   `json:"hide,omitempty" doc:"fields taken out of results, like items.*.address"`
	Mask        []string                   `json:"mask,omitempty" doc:"fields of results whose texts are replaced by stars, like items.*.phone"`
	ResultKiB   int                        `json:"resultKiB,omitempty" doc:"results are cut to this size, in KiB"`

	Order int `json:"order,omitempty" doc:"place in lists, the smallest first; it decides nothing"`

	HoldSeconds int      `json:"holdSeconds,omitempty" doc:"how long a held call waits; 0 for 5 minutes"`
	Deciders    []string `json:"deciders,omitempty" doc:"who decides held calls, like group:dispatch, role:maintainer or person:joss; empty for admins and maintainers"`
	OwnDecides  bool     `json:"ownDecides,omitempty" doc:"the agent's own person may decide too"`
	AsksUser    bool     `json:"asksUser,omitempty" doc:"the agent's own user is asked instead, through the assistant, where it can ask (elicitation)"`
}

// Rule says who may reach what. Agent, Server and Tool are globs over names:
// "*" stands for any run of characters, "?" for one. Tool is matched against
// the server's own name of the tool.
type Rule struct {
	ID string
	// Name is what people call the rule.
	Name   string
	Effect Effect
	Agent  string
	// AgentID is set for a rule about one agent: it binds that agent, and none that
	// has its name later.
	AgentID string
	Server  string
	Tool    string
	Note    string
	// By is the full name of the person who made the rule.
	By string
	Terms
}

// all is the pattern that is no pattern: it means everybody.
const all = "*"

// FieldError names the field of a rule that cannot be accepted, and why.
type FieldError struct{ Field, Why string }

func (e *FieldError) Error() string { return fmt.Sprintf("%s %s", e.Field, e.Why) }

// Limits on what a rule may hold.
const (
	MaxGlob     = 200    // bytes of a glob
	MaxName     = 48     // of a rule's name
	MaxPins     = 20     // arguments that one rule fills in
	MaxHold     = 86_400 // seconds that a call may be held
	DefaultHold = 300    // seconds that a call is held when the rule says nothing
	maxPin      = 4 << 10
	maxDeciders = 20
)

var (
	nameRE = regexp.MustCompile(`^[a-z0-9]([a-z0-9-]*[a-z0-9])?$`)
	wordRE = regexp.MustCompile(`^[a-z0-9]([a-z0-9._=-]{0,46}[a-z0-9])?$`)
)

// CheckName reports whether a rule may have the name, as a *FieldError.
func CheckName(name string) error {
	if len(name) > MaxName || !nameRE.MatchString(name) {
		return &FieldError{"name", fmt.Sprintf("is %.60q; it must have 1 to %d lower-case letters, digits and dashes", name, MaxName)}
	}
	return nil
}

// CheckLabel reports whether something may be a label, a tag or a group, as a
// *FieldError for the field.
func CheckLabel(field, label string) error {
	if !wordRE.MatchString(label) {
		return &FieldError{field, fmt.Sprintf("is %.60q; it must have 1 to 48 lower-case letters, digits, dashes, dots and =", label)}
	}
	return nil
}

// Check reports the first field of r that is not acceptable, as a *FieldError.
func (r Rule) Check() error {
	if !slices.Contains(Effects, string(r.Effect)) {
		return &FieldError{"effect", fmt.Sprintf("is %q; it must be admit, hold or refuse", r.Effect)}
	}
	for _, g := range [...]struct{ field, glob string }{{"agent", r.Agent}, {"server", r.Server}, {"tool", r.Tool}} {
		if err := checkGlob(g.field, g.glob); err != nil {
			return err
		}
	}
	if err := CheckName(r.Name); err != nil {
		return err
	}
	if len(r.Note) > 500 {
		return &FieldError{"note", "is longer than 500 characters"}
	}
	for _, check := range [...]func() error{r.checkSubject, r.checkConditions, r.checkShape, r.checkHold} {
		if err := check(); err != nil {
			return err
		}
	}
	return nil
}

func checkGlob(field, glob string) error {
	switch {
	case glob == "":
		return &FieldError{field, `is empty; name one, or use "*" for all`}
	case len(glob) > MaxGlob:
		return &FieldError{field, fmt.Sprintf("is longer than %d characters", MaxGlob)}
	case strings.ContainsAny(glob, " \t\r\n"):
		return &FieldError{field, "contains a blank; globs are names with * and ?"}
	}
	return nil
}

func (r Rule) checkSubject() error {
	if r.Role != "" && !slices.Contains(roles, r.Role) {
		return &FieldError{"role", fmt.Sprintf("is %.60q; it must be one of %s", r.Role, strings.Join(roles, ", "))}
	}
	if r.Hint != "" && !slices.Contains(hintWords(), r.Hint) {
		return &FieldError{"hint", fmt.Sprintf("is %.60q; it must be one of %s", r.Hint, strings.Join(hintWords(), ", "))}
	}
	for _, w := range [...]struct{ field, word string }{
		{"group", r.Group}, {"label", r.Label}, {"serverLabel", r.ServerLabel}, {"tag", r.Tag}, {"bundle", r.Bundle},
	} {
		if w.word == "" {
			continue
		}
		if err := CheckLabel(w.field, w.word); err != nil {
			return err
		}
	}
	return nil
}

func (r Rule) checkConditions() error {
	if len(r.When) > 0 {
		if r.shapes() {
			return &FieldError{"when", "goes together with none of narrow, pins, title, description, hide, mask and resultKiB: " +
				"those hold for every call, so say what is allowed in narrow"}
		}
		if _, err := narrowing.ReadCondition(r.When); err != nil {
			return &FieldError{"when", err.Error()}
		}
	}
	if r.Window != "" {
		if _, err := ReadWindow(r.Window); err != nil {
			return &FieldError{"window", err.Error()}
		}
	}
	for _, g := range [...]struct{ field, glob string }{{"client", r.Client}, {"revision", r.Revision}} {
		if g.glob != "" {
			if err := checkGlob(g.field, g.glob); err != nil {
				return err
			}
		}
	}
	if r.Network != "" {
		if _, err := netip.ParsePrefix(r.Network); err != nil {
			return &FieldError{"network", fmt.Sprintf("is %.60q; a range of addresses looks like 10.20.0.0/16", r.Network)}
		}
	}
	if r.Presence != "" && r.Presence != Present && r.Presence != Unattended {
		return &FieldError{"presence", fmt.Sprintf("is %.60q; it must be present or unattended", r.Presence)}
	}
	if r.Begins != nil && r.Ends != nil && !r.Begins.Before(*r.Ends) {
		return &FieldError{"ends", "is not after it begins, so it would never hold"}
	}
	return nil
}

// shapes reports whether the rule says how a call or its result has to look.
func (r Rule) shapes() bool {
	return len(r.Narrow) > 0 || len(r.Pins) > 0 || r.Title != "" || r.Description != "" || len(r.Hide)+len(r.Mask) > 0 || r.ResultKiB > 0
}

func (r Rule) checkShape() error {
	if r.Effect == Refuse && r.shapes() {
		return &FieldError{"narrow", "makes no sense in a rule that refuses, nor do pins, title, description, hide, mask and resultKiB"}
	}
	if len(r.Narrow) > 0 {
		if _, err := narrowing.ReadOverlay(r.Narrow); err != nil {
			return &FieldError{"narrow", err.Error()}
		}
	}
	if len(r.Pins) > MaxPins {
		return &FieldError{"pins", fmt.Sprintf("are %d; %d are the most", len(r.Pins), MaxPins)}
	}
	for name, raw := range r.Pins {
		if err := checkPin(name, raw); err != nil {
			return err
		}
	}
	if len(r.Title) > 200 || len(r.Description) > 8<<10 {
		return &FieldError{"description", "is too long: 200 characters for a title, 8,000 for a description"}
	}
	for _, one := range [...]struct {
		field string
		paths []string
	}{{"hide", r.Hide}, {"mask", r.Mask}} {
		if len(one.paths) > narrowing.MaxPaths {
			return &FieldError{one.field, fmt.Sprintf("names %d fields; %d are the most", len(one.paths), narrowing.MaxPaths)}
		}
		for _, path := range one.paths {
			if _, err := narrowing.ReadPath(path); err != nil {
				return &FieldError{one.field, err.Error()}
			}
		}
	}
	if r.Order < 0 || r.Order > 10_000 {
		return &FieldError{"order", "must be between 0 and 10,000; rules without one come last"}
	}
	if r.ResultKiB < 0 || r.ResultKiB > 1<<20 {
		return &FieldError{"resultKiB", "must be between 1 and 1,048,576"}
	}
	return nil
}

func (r Rule) checkHold() error {
	if r.Effect != Hold && (r.HoldSeconds != 0 || len(r.Deciders) > 0 || r.OwnDecides || r.AsksUser) {
		return &FieldError{"effect", "must be hold for a rule that says who decides, and for how long"}
	}
	if r.HoldSeconds < 0 || r.HoldSeconds > MaxHold {
		return &FieldError{"holdSeconds", fmt.Sprintf("must be between 1 and %d", MaxHold)}
	}
	if len(r.Deciders) > maxDeciders {
		return &FieldError{"deciders", fmt.Sprintf("are %d; %d are the most", len(r.Deciders), maxDeciders)}
	}
	for _, d := range r.Deciders {
		kind, name, _ := strings.Cut(d, ":")
		switch {
		case kind == "role" && name == "auditor":
			return &FieldError{"deciders", "holds role:auditor, but auditors decide nothing"}
		case kind == "role" && slices.Contains(roles, name), (kind == "group" || kind == "person") && wordRE.MatchString(name):
		default:
			return &FieldError{"deciders", fmt.Sprintf("holds %.60q; write group:NAME, role:NAME or person:NAME", d)}
		}
	}
	return nil
}

// HoldFor is how long a call waits that the rule holds.
func (r Rule) HoldFor() time.Duration {
	if r.HoldSeconds == 0 {
		return DefaultHold * time.Second
	}
	return time.Duration(r.HoldSeconds) * time.Second
}

// Decider is somebody who might decide a held call.
type Decider struct {
	Name, Role string
	Groups     []string
}

// Decides reports whether somebody may decide calls that the rule holds, of an agent
// whose owner is given ("" for the team's). Nobody decides their own agent's call unless
// the rule says so, and auditors decide nothing.
func (r Rule) Decides(who Decider, owner string) bool {
	if who.Role == "auditor" {
		return false
	}
	if owner != "" && who.Name == owner {
		return r.OwnDecides
	}
	if len(r.Deciders) == 0 {
		return who.Role == "admin" || who.Role == "maintainer"
	}
	return slices.ContainsFunc(r.Deciders, func(d string) bool {
		kind, name, _ := strings.Cut(d, ":")
		switch kind {
		case "group":
			return slices.Contains(who.Groups, name)
		case "role":
			return who.Role == name
		}
		return who.Name == name
	})
}

// Describe renders the rule without its note, for people.
func (r Rule) Describe() string {
	var b strings.Builder
	fmt.Fprintf(&b, "%s %s on %s for %s", r.Effect, r.Tool, r.Server, r.Agent)
	if r.Disabled {
		b.WriteString(", disabled")
	}
	for _, part := range [...]struct{ before, what, after string }{
		{" of ", r.Person, ""}, {" of people with role ", r.Role, ""}, {" of people in group ", r.Group, ""}, {" labelled ", r.Label, ""},
		{", servers labelled ", r.ServerLabel, ""}, {", tools that are ", r.Hint, ""}, {", tools tagged ", r.Tag, ""},
		{", bundle ", r.Bundle, ""}, {", when the arguments fit ", clip(string(r.When)), ""}, {", ", r.Window, ""},
		{", from client ", r.Client, ""}, {", revision ", r.Revision, ""}, {", from network ", r.Network, ""},
		{", while its person is ", presenceWord(r.Presence), ""},
		{", from ", moment(r.Begins), ""}, {", until ", moment(r.Ends), ""}, {", narrowed to ", clip(string(r.Narrow)), ""},
		{", pinned: ", strings.Join(sortedKeys(r.Pins), ", "), ""}, {", hidden: ", clip(strings.Join(r.Hide, ", ")), ""},
		{", masked: ", clip(strings.Join(r.Mask, ", ")), ""},
	} {
		if part.what != "" {
			b.WriteString(part.before + part.what)
		}
	}
	if r.ResultKiB > 0 {
		fmt.Fprintf(&b, ", results of at most %d KiB", r.ResultKiB)
	}
	if r.Title != "" || r.Description != "" {
		b.WriteString(", in other words")
	}
	if len(r.Deciders) > 0 {
		b.WriteString(", decided by " + strings.Join(r.Deciders, " or "))
	}
	if r.AsksUser {
		b.WriteString(", the agent's own user is asked")
	}
	return b.String()
}

func presenceWord(p string) string {
	if p == Unattended {
		return "away"
	}
	return p
}

func moment(t *time.Time) string {
	if t == nil {
		return ""
	}
	return t.UTC().Format("2006-01-02 15:04 MST")
}

func clip(s string) string {
	if len(s) > 120 {
		return strings.ToValidUTF8(s[:117], "") + "..."
	}
	return s
}

func sortedKeys[V any](m map[string]V) []string {
	out := make([]string, 0, len(m))
	for k := range m {
		out = append(out, k)
	}
	slices.Sort(out)
	return out
}
