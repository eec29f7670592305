package rules

import (
	"encoding/json"
	"fmt"
	"net/netip"
	"regexp"
	"slices"
	"strings"

	"bouncer/internal/core/narrowing"
)

var roles = []string{"admin", "maintainer", "member", "auditor"}

// Whether an agent's person is there.
const (
	Present    = "present"
	Unattended = "unattended"
)

// Subject is whom rules are held against: an agent, by what its owner cannot choose
// and by its name, which an owner can.
type Subject struct {
	ID, Name string
	// Confirmed is set when somebody who may make rules stands for the name. Only
	// then do patterns of names admit anything for the agent.
	Confirmed bool
	// Owner, OwnerID and FullName are those of the agent's person, and Role and Groups
	// what that person has; all are empty for an agent of the team's.
	Owner, OwnerID, FullName, Role string
	Groups                         []string
	Labels                         []string
}

// Circumstances are what is known of a request besides who makes it.
type Circumstances struct {
	Client   string // what the program calls itself
	Revision string
	Address  netip.Addr
	Present  bool // the agent's person is seen elsewhere at the moment
}

// binds reports whether the rule is about the subject. waits is set for a rule that
// would be if the subject's name were confirmed.
func (r *Rule) binds(s Subject) (now, waits bool) {
	if !r.about(s) {
		return false, false
	}
	switch {
	case r.Agent == all, r.AgentID != "" && r.AgentID == s.ID:
		return true, false
	case !Match(r.Agent, s.Name):
		return false, false
	case r.Effect == Refuse:
		return true, false // whoever takes a name takes what is refused to it
	case r.AgentID != "":
		return false, true // it was made for another agent of this name
	}
	return s.Confirmed, !s.Confirmed
}

// about holds what nobody chooses for themselves against the rule.
func (r *Rule) about(s Subject) bool {
	switch {
	case r.Label != "" && !slices.Contains(s.Labels, r.Label),
		r.Role != "" && r.Role != s.Role,
		r.Group != "" && !slices.Contains(s.Groups, r.Group):
		return false
	case r.Person == "":
		return true
	case r.PersonID == "":
		// Nobody had the name when the rule was made: refusals wait for whoever takes it,
		// admissions do not.
		return r.Effect == Refuse && r.Person == s.Owner
	}
	return r.PersonID == s.OwnerID || r.Effect == Refuse && r.Person == s.Owner
}

// circumstantial reports whether the rule depends on more than the agent and the tool.
func (r *Rule) circumstantial() bool {
	return r.Client != "" || r.Revision != "" || r.Network != "" || r.Presence != ""
}

// holdsUnder reports whether the rule holds under the circumstances.
func (c *compiled) holdsUnder(how Circumstances) bool {
	switch {
	case c.Client != "" && !Match(c.Client, how.Client),
		c.Revision != "" && !Match(c.Revision, how.Revision),
		c.network.IsValid() && !c.network.Contains(how.Address.Unmap()),
		c.Presence == Present && !how.Present,
		c.Presence == Unattended && how.Present:
		return false
	}
	return true
}

var placeholder = regexp.MustCompile(`\$\{([^}]*)\}`)

// checkPin reports what is wrong with a pinned argument, as a *FieldError.
func checkPin(name string, raw json.RawMessage) error {
	if name == "" || len(name) > 100 {
		return &FieldError{"pins", "have an argument with an empty or overlong name"}
	}
	v, err := narrowing.Decode(raw)
	switch {
	case len(raw) > maxPin:
		return &FieldError{"pins", fmt.Sprintf("%s is longer than %d bytes", name, maxPin)}
	case err != nil:
		return &FieldError{"pins", fmt.Sprintf("%s: %s; a text is written with quotes", name, err)}
	}
	text, ok := v.(string)
	if !ok {
		return nil
	}
	for _, m := range placeholder.FindAllStringSubmatch(text, -1) {
		label, isLabel := strings.CutPrefix(m[1], "label:")
		switch {
		case isLabel && wordRE.MatchString(label):
		case m[1] == "person", m[1] == "fullName", m[1] == "agent":
		default:
			return &FieldError{"pins", fmt.Sprintf("%s holds %s; there are ${person}, ${fullName}, ${agent} and ${label:NAME}", name, m[0])}
		}
	}
	return nil
}

// fill makes the value of a pin for a subject. It fails where nothing stands for a
// placeholder: then the call must not go on.
func fill(name string, raw json.RawMessage, s Subject) (any, error) {
	v, err := narrowing.Decode(raw)
	if err != nil {
		return nil, fmt.Errorf("pin %s: %w", name, err)
	}
	text, ok := v.(string)
	if !ok {
		return v, nil
	}
	var lacks string
	out := placeholder.ReplaceAllStringFunc(text, func(found string) string {
		word := found[2 : len(found)-1]
		value := ""
		switch word {
		case "person":
			value = s.Owner
		case "fullName":
			value = s.FullName
		case "agent":
			value = s.Name
		default:
			// A label north=skerrow is the value skerrow under the name north.
			key := strings.TrimPrefix(word, "label:") + "="
			for _, label := range s.Labels {
				if rest, found := strings.CutPrefix(label, key); found {
					value = rest
				}
			}
		}
		if value == "" {
			lacks = found
		}
		return value
	})
	if lacks != "" {
		return nil, fmt.Errorf("argument %s is pinned to %s, and agent %s has none", name, lacks, s.Name)
	}
	return out, nil
}
