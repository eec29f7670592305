package rules

import (
	"fmt"
	"regexp"
	"strings"

	"bouncer/internal/core/near"
)

// World is what rules can be about at this moment.
type World struct {
	Agents  []Subject
	Servers []Offer
}

// Offer is what one server offers, by the names that rules know it by.
type Offer struct {
	Name  string
	Tools []string
	// Others are prompts and resources.
	Others []string
	// Unknown is set while the server has never been reached: nobody knows what it
	// offers.
	Unknown bool
}

// Matches is what a rule is about at this moment.
type Matches struct {
	Agents    int    `json:"agents" doc:"agents that it binds now"`
	Waiting   int    `json:"waiting" doc:"agents that it binds once their name is confirmed"`
	Servers   int    `json:"servers"`
	Tools     int    `json:"tools"`
	ToolsOf   int    `json:"toolsOf" doc:"tools that these servers have"`
	Others    int    `json:"others" doc:"prompts and resources"`
	Unknown   int    `json:"unknown" doc:"servers whose tools are not known yet"`
	Text      string `json:"text" doc:"the same in words"`
	Nothing   string `json:"nothing,omitempty" enum:"agent,server,tool" doc:"field that matches nothing; left out when each matches something"`
	Suggested string `json:"suggested,omitempty" doc:"name that was probably meant there"`
}

// Matches tells what the rule is about in the world, and if that is nothing, which
// field is to blame and what was probably meant.
func (r Rule) Matches(w World) Matches {
	var m Matches
	var agents, servers, names []string
	for _, a := range w.Agents {
		agents = append(agents, a.Name)
		switch now, waits := r.binds(a); {
		case now:
			m.Agents++
		case waits:
			m.Waiting++
		}
	}
	only := ""
	for _, s := range w.Servers {
		servers = append(servers, s.Name)
		if !Match(r.Server, s.Name) {
			continue
		}
		m.Servers++
		only = s.Name
		m.ToolsOf += len(s.Tools)
		names = append(append(names, s.Tools...), s.Others...)
		m.Tools += matching(r.Tool, s.Tools)
		m.Others += matching(r.Tool, s.Others)
		if s.Unknown {
			m.Unknown++
		}
	}
	switch {
	case m.Agents+m.Waiting == 0 && r.Agent != all:
		m.Nothing, m.Suggested = "agent", meant(r.Agent, agents)
	case m.Servers == 0 && r.Server != all:
		m.Nothing, m.Suggested = "server", meant(r.Server, servers)
	case m.Tools+m.Others == 0 && m.Unknown == 0 && r.Tool != all:
		m.Nothing, m.Suggested = "tool", meant(r.Tool, names)
	}
	m.Text = m.words(r, only, len(w.Agents), len(w.Servers))
	return m
}

func matching(glob string, names []string) (n int) {
	for _, name := range names {
		if Match(glob, name) {
			n++
		}
	}
	return n
}

// words say what is matched: "7 of 8 tools of flows, for 2 agents".
func (m Matches) words(r Rule, only string, agents, servers int) string {
	switch m.Nothing {
	case "agent":
		return "nothing: no agent " + called("is called ", "has a name like ", r.Agent)
	case "server":
		return "nothing: no server " + called("is called ", "has a name like ", r.Server)
	case "tool":
		return "nothing: " + has(only, m.Servers) + " no tool, prompt or resource " + called("called ", "like ", r.Tool)
	}
	if m.Servers == 1 && m.Unknown == 1 {
		return only + ", whose tools are not known yet" + m.whom(agents)
	}
	text := fmt.Sprintf("%d of %s", m.Tools, many(m.ToolsOf, "tool"))
	if m.Tools == m.ToolsOf {
		text = "all " + many(m.ToolsOf, "tool")
	}
	if m.ToolsOf == 1 && m.Tools == 1 {
		text = "the one tool"
	}
	if m.Others > 0 {
		also := many(m.Others, "prompt or resource")
		if m.Others > 1 {
			also = fmt.Sprintf("%d prompts and resources", m.Others)
		}
		if m.Tools == 0 {
			text = also
		} else {
			text += " and " + also
		}
	}
	switch m.Servers {
	case 1:
		text += " of " + only
	case servers:
		text += " of all " + many(servers, "server")
	default:
		text += fmt.Sprintf(" of %d of %s", m.Servers, many(servers, "server"))
	}
	if m.Unknown > 0 {
		text += fmt.Sprintf(" (what %s offer is not known yet)", many(m.Unknown, "server"))
		if m.Unknown == 1 {
			text = strings.Replace(text, "offer is", "offers is", 1)
		}
	}
	return text + m.whom(agents)
}

func (m Matches) whom(agents int) string {
	text := ", for " + many(m.Agents, "agent")
	if m.Agents == agents {
		text = ", for every agent"
	}
	if m.Waiting > 0 {
		text += fmt.Sprintf(" and %d more once confirmed", m.Waiting)
	}
	return text
}

func called(plain, pattern, glob string) string {
	if strings.ContainsAny(glob, "*?") {
		return pattern + glob
	}
	return plain + glob
}

func has(only string, servers int) string {
	if servers == 1 {
		return only + " has"
	}
	return many(servers, "server") + " have"
}

func many(n int, what string) string {
	if n == 1 {
		return "1 " + what
	}
	return fmt.Sprintf("%d %ss", n, what)
}

// meant is the glob or name that was probably meant. Globs are case-sensitive, and a
// glob is held against names as it would match without regard to case.
func meant(glob string, names []string) string {
	if !strings.ContainsAny(glob, "*?") {
		return near.Nearest(glob, names)
	}
	lower := strings.ToLower(glob)
	for _, name := range names {
		if Match(lower, name) {
			return lower
		}
	}
	for _, name := range names {
		if Match(lower, strings.ToLower(name)) {
			return name
		}
	}
	return ""
}

// Plain takes a name as agents see it on the address of all servers apart:
// flows__delete_run is delete_run of flows. It returns the rule as it is when its tool
// is no such name of a server that the rule is about.
func (r Rule) Plain(w World) Rule {
	for _, s := range w.Servers {
		rest, cut := strings.CutPrefix(r.Tool, s.Name+"__")
		if !cut || rest == "" || !Match(r.Server, s.Name) {
			continue
		}
		if matching(r.Tool, s.Tools) == 0 && (matching(rest, s.Tools) > 0 || s.Unknown) {
			r.Server, r.Tool = s.Name, rest
			return r
		}
	}
	return r
}

// MaxName is the longest name of a rule.
const MaxName = 48

var nameRE = regexp.MustCompile(`^[a-z0-9]([a-z0-9-]*[a-z0-9])?$`)

// CheckName reports whether a rule may have the name, as a *FieldError.
func CheckName(name string) error {
	if len(name) > MaxName || !nameRE.MatchString(name) {
		return &FieldError{"name", fmt.Sprintf("is %.60q; it must have 1 to %d lower-case letters, digits and dashes", name, MaxName)}
	}
	return nil
}

var unspeakable = regexp.MustCompile(`[^a-z0-9]+`)

// Propose makes a name of what the rule says: refuse-order-on-fuel. taken reports
// whether another rule has a name already.
func (r Rule) Propose(taken func(name string) bool) string {
	word := func(glob string) string {
		return strings.Trim(unspeakable.ReplaceAllString(strings.ToLower(glob), "-"), "-")
	}
	tool, server, agent := word(r.Tool), word(r.Server), word(r.Agent)
	if tool == "" {
		tool = "all"
	}
	base := string(r.Effect) + "-" + tool
	for _, part := range []string{"on-" + server, "for-" + agent} {
		// What does not fit is left out as a whole: half a name would be somebody else's.
		if longer := base + "-" + part; !strings.HasSuffix(part, "-") && len(longer) <= MaxName-4 {
			base = longer
		}
	}
	if most := MaxName - 4; len(base) > most {
		base = base[:strings.LastIndexByte(base[:most+1], '-')]
	}
	name := base
	for i := 2; taken(name); i++ {
		name = fmt.Sprintf("%s-%d", base, i)
	}
	return name
}
