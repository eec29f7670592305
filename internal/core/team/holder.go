package team

import (
	"strings"
)

// Holder is whose credential something is: the team's when both are empty. They
// are ids.
type Holder struct{ Person, Agent string }

// Key tells holders apart in one text; "" is the team.
func (h Holder) Key() string {
	switch {
	case h.Agent != "":
		return "agent:" + h.Agent
	case h.Person != "":
		return "person:" + h.Person
	}
	return ""
}

// ReadHolder is the reverse of Key.
func ReadHolder(key string) Holder {
	kind, id, _ := strings.Cut(key, ":")
	switch kind {
	case "person":
		return Holder{Person: id}
	case "agent":
		return Holder{Agent: id}
	}
	return Holder{}
}

// Args are the two ids as columns have them: nil for none.
func (h Holder) Args() (person, agent any) {
	if h.Person != "" {
		person = h.Person
	}
	if h.Agent != "" {
		agent = h.Agent
	}
	return person, agent
}
