package rules

import (
	"fmt"
	"regexp"
	"strings"
	"time"

	"bouncer/internal/core/near"
)

// World is what rules can be about at this moment.
type World struct {
	Agents  []Subject
	Servers []Offer
	Bundles Bundles
	Now     time.Time
}

// Offer is what one server offers, by the names that rules know it by.
type Offer struct {
	Host
	Tools []Object
	// Others are prompts and resources.
	Others []Object
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
	Nothing   string `json:"nothing,omitempty" doc:"field that matches nothing; left out when each matches something"`
	Suggested string `json:"suggested,omitempty" doc:"name that was probably meant there"`
	Off       string `json:"off,omitempty" doc:"why it decides nothing at the moment, in words; left out when it is in force"`
}

// Matches tells what the rule is about in the world, and if that is nothing, which
// field is to blame and what was probably meant.
func (r Rule) Matches(w World) Matches {
	c := compile(r, 0, w.Bundles)
	var m Matches
	m.Off = c.off(w.Now)
	for i := range w.Agents {
		switch now, waits := c.binds(w.Agents[i]); {
		case now:
			m.Agents++
		case waits:
			m.Waiting++
		}
	}
	only := ""
	for i := range w.Servers {
		s := &w.Servers[i]
		if !c.isAbout(s.Host) {
			continue
		}
		m.Servers++
		only = s.Name
		m.ToolsOf += len(s.Tools)
		m.Tools += c.covered(s, s.Tools)
		m.Others += c.covered(s, s.Others)
		if s.Unknown {
			m.Unknown++
		}
	}
	m.Nothing, m.Suggested = c.blame(w, m)
	m.Text = m.words(r, only, len(w.Agents), len(w.Servers))
	return m
}

// off says why a rule decides nothing at a time; "" when it does.
func (c *compiled) off(now time.Time) string {
	switch {
	case c.Disabled:
		return "it is disabled"
	case c.Begins != nil && now.Before(*c.Begins):
		return "it begins at " + moment(c.Begins)
	case c.Ends != nil && !now.Before(*c.Ends):
		return "it ended at " + moment(c.Ends)
	case c.window != nil && c.broken == nil && !c.window.Open(now):
		return "its window (" + c.Window + ") is closed"
	}
	return ""
}

func (c *compiled) covered(s *Offer, list []Object) (n int) {
	for i := range list {
		if c.covers(&s.Host, &list[i]) {
			n++
		}
	}
	return n
}

// blame names the first field for which the rule is about nothing.
func (c *compiled) blame(w World, m Matches) (field, suggested string) {
	if m.Agents+m.Waiting == 0 {
		if field, suggested = c.blameSubject(w); field != "" {
			return field, suggested
		}
	}
	if m.Servers == 0 {
		names, labels := []string{}, []string{}
		for _, s := range w.Servers {
			names, labels = append(names, s.Name), append(labels, s.Labels...)
		}
		if c.Server != all && !anyMatch(c.Server, names) {
			return "server", meant(c.Server, names)
		}
		if c.ServerLabel != "" {
			return "serverLabel", near.Nearest(c.ServerLabel, labels)
		}
	}
	if m.Tools+m.Others == 0 && m.Unknown == 0 && m.Servers > 0 {
		return c.blameTool(w)
	}
	return "", ""
}

func (c *compiled) blameSubject(w World) (field, suggested string) {
	agents, people, labels, groups := []string{}, []string{}, []string{}, []string{}
	for _, a := range w.Agents {
		agents, people = append(agents, a.Name), append(people, a.Owner)
		labels, groups = append(labels, a.Labels...), append(groups, a.Groups...)
	}
	switch {
	case c.Agent != all && !anyMatch(c.Agent, agents):
		return "agent", meant(c.Agent, agents)
	case c.Person != "" && !has(people, c.Person):
		return "person", near.Nearest(c.Person, people)
	case c.Label != "" && !has(labels, c.Label):
		return "label", near.Nearest(c.Label, labels)
	case c.Group != "" && !has(groups, c.Group):
		return "group", near.Nearest(c.Group, groups)
	case c.Role != "":
		return "role", ""
	case c.Agent != all:
		return "agent", ""
	case c.Person != "" || c.Label != "" || c.Group != "":
		return "agent", ""
	}
	return "", ""
}

func (c *compiled) blameTool(w World) (field, suggested string) {
	names, tags := []string{}, []string{}
	for i := range w.Servers {
		s := &w.Servers[i]
		if !c.isAbout(s.Host) {
			continue
		}
		for _, list := range [...][]Object{s.Tools, s.Others} {
			for _, o := range list {
				names, tags = append(names, o.Name), append(tags, o.Tags...)
			}
		}
	}
	switch {
	case c.Tool != all && !anyMatch(c.Tool, names):
		return "tool", meant(c.Tool, names)
	case c.Tag != "" && !has(tags, c.Tag):
		return "tag", near.Nearest(c.Tag, tags)
	case c.Bundle != "":
		return "bundle", ""
	case c.Hint != "":
		return "hint", ""
	case c.Tool != all || c.Tag != "":
		return "tool", ""
	}
	return "", ""
}

func anyMatch(glob string, names []string) bool {
	for _, name := range names {
		if Match(glob, name) {
			return true
		}
	}
	return false
}

// words say what is matched: "7 of 8 tools of flows, for 2 agents".
func (m Matches) words(r Rule, only string, agents, servers int) string {
	switch m.Nothing {
	case "":
	case "agent":
		return "nothing: no agent " + called("is called ", "has a name like ", r.Agent)
	case "server":
		return "nothing: no server " + called("is called ", "has a name like ", r.Server)
	case "tool":
		return "nothing: " + hasWord(only, m.Servers) + " no tool, prompt or resource " + called("called ", "like ", r.Tool)
	case "person":
		return "nothing: no agent is one of " + r.Person + "'s"
	case "role":
		return "nothing: no agent's person is " + r.Role
	case "group":
		return "nothing: no agent's person is in group " + r.Group
	case "label":
		return "nothing: no agent is labelled " + r.Label
	case "serverLabel":
		return "nothing: no server is labelled " + r.ServerLabel
	case "hint":
		return "nothing: " + hasWord(only, m.Servers) + " no tool that is " + r.Hint
	case "tag":
		return "nothing: " + hasWord(only, m.Servers) + " no tool tagged " + r.Tag
	case "bundle":
		return "nothing: " + hasWord(only, m.Servers) + " no tool of bundle " + r.Bundle
	}
	if m.Servers == 1 && m.Unknown == 1 {
		return only + ", whose tools are not known yet" + m.whom(agents)
	}
	return m.what(only, servers) + m.whom(agents)
}

// what says which tools are matched.
func (m Matches) what(only string, servers int) string {
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
	return text
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

func hasWord(only string, servers int) string {
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
		names := []string{}
		for _, o := range s.Tools {
			names = append(names, o.Name)
		}
		if !anyMatch(r.Tool, names) && (anyMatch(rest, names) || s.Unknown) {
			r.Server, r.Tool = s.Name, rest
			return r
		}
	}
	return r
}

var unspeakable = regexp.MustCompile(`[^a-z0-9]+`)

// Propose makes a name of what the rule says: refuse-order-on-fuel. taken reports
// whether another rule has a name already.
func (r Rule) Propose(taken func(name string) bool) string {
	word := func(glob string) string {
		return strings.Trim(unspeakable.ReplaceAllString(strings.ToLower(glob), "-"), "-")
	}
	tool, server, agent := word(r.Tool), word(r.Server), word(r.Agent)
	if server == "" {
		server = word(r.ServerLabel)
	}
	for _, more := range [...]string{r.Label, r.Person, r.Group, r.Role} {
		if agent == "" {
			agent = word(more)
		}
	}
	for _, more := range [...]string{r.Hint, r.Tag, r.Bundle} {
		if tool == "" {
			tool = word(more)
		}
	}
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
