package snapshot

import (
	"strings"

	"bouncer/internal/core/rules"
	"bouncer/internal/core/tools"
)

// Unknown is what a program is told, in members, of something that there is not, or that it
// may not know of.
func Unknown(kind tools.Kind, subject string) map[string]string {
	one := strings.TrimSuffix(string(kind), "s")
	data := map[string]string{"reason": "unknown-" + one, one: Clip(subject)}
	if kind == tools.Resources {
		data["uri"] = Clip(subject)
	}
	return data
}

// Refused is what a program is told, in members, of something that it may not have; contacts
// are whom it can ask.
func (t *Target) Refused(kind tools.Kind, contacts string) map[string]string {
	data := map[string]string{"reason": "no-rule-admits", "server": t.Server.Name, "tool": kind.Rule(t.Tool.Name), "ask": contacts}
	switch {
	case t.Unfit != nil:
		data["reason"] = "rules-cannot-be-applied"
	case t.Admitted():
		data["reason"] = "server-paused"
	case t.Decision.Waits != nil:
		data["reason"], data["rule"] = "name-not-confirmed", t.Decision.Waits.Name
	case t.Decision.Effect == rules.Refuse && t.Decision.Rule != nil:
		data["reason"], data["rule"] = "rule-refuses", t.Decision.RuleName()
	}
	return data
}

// Effects are what a tool does, in words: by its tags, and by what its server says of it.
func (t *Target) Effects() (out []string) {
	o := t.Server.Object(tools.Tools, t.Tool)
	for _, hint := range [...]string{rules.Destructive, rules.ReadOnly, rules.Idempotent, rules.OpenWorld} {
		if o.Is(hint) {
			out = append(out, hint)
		}
	}
	return out
}
