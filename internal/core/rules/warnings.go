package rules

import (
	"encoding/json"
	"fmt"
	"time"

	"bouncer/internal/core/narrowing"
)

// Warnings tell what is odd about a rule beside the others, without being wrong: that it
// has ended, that others leave it nothing to decide, that its schema does not go with
// the tools that it is about.
func (r Rule) Warnings(others []Rule, w World) []string {
	out := []string{}
	if r.Ends != nil && !w.Now.Before(*r.Ends) {
		out = append(out, "it has ended already, at "+moment(r.Ends))
	}
	if r.Window != "" {
		if win, err := ReadWindow(r.Window); err == nil {
			next := win.Turns(w.Now)
			if next.IsZero() && !win.Open(w.Now) || r.Ends != nil && !win.Open(w.Now) && !next.Before(*r.Ends) {
				out = append(out, "its window does not open before it ends")
			}
		}
	}
	if by := r.shadowed(others, w); by != "" {
		out = append(out, "it decides nothing: rule "+by+" decides everything that it is about")
	}
	return append(out, r.misfits(w)...)
}

// shadowed names a rule that decides everything which the rule is about.
func (r Rule) shadowed(others []Rule, w World) string {
	if r.shapes() || r.Disabled {
		return ""
	}
	for _, o := range others {
		if o.ID == r.ID || o.Disabled || !o.unconditional() || o.strength() < r.strength() || o.shapes() {
			continue
		}
		if o.strength() == r.strength() && (o.Effect != r.Effect || r.Effect == Hold) {
			continue
		}
		if wider(o, r) {
			return o.Name
		}
	}
	return ""
}

func (r Rule) strength() int {
	return map[Effect]int{Admit: 0, Hold: 1, Refuse: 2}[r.Effect]
}

// unconditional reports whether a rule holds always, for whomever and whatever it names.
func (r Rule) unconditional() bool {
	return len(r.When) == 0 && r.Window == "" && r.Begins == nil && r.Ends == nil && !r.circumstantial()
}

// wider reports whether everything that b is about is certainly something that a is
// about: each field of a says nothing, or the same.
func wider(a, b Rule) bool {
	field := func(x, y string) bool { return x == "" || x == all || x == y }
	return field(a.Agent, b.Agent) && (a.AgentID == "" || a.AgentID == b.AgentID) && field(a.Server, b.Server) && field(a.Tool, b.Tool) &&
		field(a.Person, b.Person) && (a.PersonID == "" || a.PersonID == b.PersonID) && field(a.Role, b.Role) && field(a.Group, b.Group) &&
		field(a.Label, b.Label) && field(a.ServerLabel, b.ServerLabel) && field(a.Hint, b.Hint) && field(a.Tag, b.Tag) &&
		field(a.Bundle, b.Bundle)
}

// unknown names an argument that the rule speaks of and that a tool does not describe.
func (r Rule) unknown(o *Object) string {
	var schema struct {
		Properties map[string]json.RawMessage `json:"properties"`
	}
	if json.Unmarshal(o.Schema, &schema) != nil || len(schema.Properties) == 0 {
		return ""
	}
	names := sortedKeys(r.Pins)
	for _, raw := range [...]json.RawMessage{r.Narrow, r.When} {
		if len(raw) == 0 {
			continue
		}
		if overlay, err := narrowing.ReadOverlay(raw); err == nil {
			names = append(names, overlay.Names()...)
		}
	}
	for _, name := range names {
		if _, has := schema.Properties[name]; !has {
			return name
		}
	}
	return ""
}

// maxMisfits is how many tools are told for which a rule cannot be applied.
const maxMisfits = 3

// misfits tells tools whose schema does not go with what the rule says of arguments.
func (r Rule) misfits(w World) (out []string) {
	if len(r.Narrow) == 0 && len(r.Pins) == 0 && len(r.When) == 0 {
		return nil
	}
	// Judged by itself, for somebody who has whatever pins ask for.
	alone := r
	alone.Agent, alone.AgentID, alone.Terms.Person, alone.PersonID, alone.Role, alone.Group, alone.Label = all, "", "", "", "", "", ""
	alone.Disabled, alone.Begins, alone.Ends, alone.Window = false, nil, nil, ""
	alone.Client, alone.Revision, alone.Network, alone.Presence = "", "", "", ""
	who := Subject{ID: "x", Name: "agent", Owner: "person", FullName: "Person"}
	for _, v := range r.Pins {
		for _, m := range placeholder.FindAllStringSubmatch(string(v), -1) {
			if len(m[1]) > 6 && m[1][:6] == "label:" {
				who.Labels = append(who.Labels, m[1][6:]+"=value")
			}
		}
	}
	set := Compile([]Rule{alone}, time.Time{}, w.Bundles).For(who)
	for i := range w.Servers {
		s := &w.Servers[i]
		local := set.On(s.Host)
		if local.Len() == 0 {
			continue
		}
		for j := range s.Tools {
			o := &s.Tools[j]
			d := local.Decide(o)
			if d.Rule == nil || r.Effect == Refuse || !d.Shaped {
				continue
			}
			if lacks := r.unknown(o); lacks != "" && len(out) < maxMisfits {
				out = append(out, fmt.Sprintf("%s of %s has no argument %s", o.Name, s.Name, lacks))
			}
			if _, err := local.Shape(o, nil); err != nil {
				if len(out) == maxMisfits {
					return append(out, "and other tools likewise")
				}
				out = append(out, fmt.Sprintf("%s of %s can then not be used: %s", o.Name, s.Name, err))
			}
		}
	}
	return out
}
