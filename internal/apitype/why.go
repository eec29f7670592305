package apitype

import "bouncer/internal/core/report"

// Why answers why an agent can or cannot use something, from its pass to the server.
type Why struct {
	Agent   string         `json:"agent"`
	Server  string         `json:"server,omitempty"`
	Tool    string         `json:"tool,omitempty" doc:"the server's own name"`
	Exposed string         `json:"exposed,omitempty" doc:"the name that the agent sees"`
	OK      bool           `json:"ok" doc:"nothing stands in the way"`
	Steps   []WhyStep      `json:"steps" doc:"the way from the pass to the server"`
	Found   []report.Found `json:"findings" doc:"what stands in the way, the first thing on the way first"`
}

// WhyStep is one step on the way.
type WhyStep struct {
	Name    string `json:"name" enum:"file,person,agent,pass,assistant,list,server,rule,budget,credential,calls"`
	Outcome string `json:"outcome" enum:"ok,failed,unknown"`
	Text    string `json:"text"`
}

// WhyDiffers compares two agents, or those of two people.
type WhyDiffers struct {
	People bool     `json:"people,omitempty" doc:"two people were compared, by the agent of each that was seen last"`
	One    Why      `json:"one"`
	Other  Why      `json:"other"`
	First  string   `json:"first" doc:"the first difference that matters, in words; empty when there is none"`
	More   []string `json:"more" doc:"what else differs"`
}
