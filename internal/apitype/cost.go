package apitype

import "bouncer/internal/core/cost"

// AgentCost is what an agent's list of tools takes of its model's context window.
type AgentCost struct {
	Agent         string  `json:"agent"`
	Owner         string  `json:"owner"`
	Finder        bool    `json:"finder" doc:"it searches its tools instead of having them listed"`
	Tools         int     `json:"tools" doc:"tools within its reach"`
	Tokens        int     `json:"tokens" doc:"of what is listed to it now"`
	All           int     `json:"all" doc:"tokens of all its tools, if they were listed"`
	ContextTokens int     `json:"contextTokens" doc:"size of its context window in tokens; 0 for not known"`
	Share         float64 `json:"share" doc:"of the window that the list takes, from 0 to 1; 0 where the window is not known"`
	Basis         string  `json:"basis" doc:"how tokens are estimated"`
}

// CostDetail is the same, tool by tool, with what would make it less.
type CostDetail struct {
	AgentCost
	Days        int               `json:"days" doc:"for how many days its calls are counted"`
	Servers     []ServerCost      `json:"servers" doc:"what takes most first"`
	List        []ToolCost        `json:"list" doc:"what takes most first"`
	Suggestions []cost.Suggestion `json:"suggestions" doc:"what saves most first"`
}

// ServerCost is what the tools of one server take.
type ServerCost struct {
	Server string `json:"server"`
	Tools  int    `json:"tools"`
	Tokens int    `json:"tokens"`
	Calls  int    `json:"calls"`
}

// ToolCost is what one tool takes.
type ToolCost struct {
	Server string `json:"server"`
	Tool   string `json:"tool"`
	Tokens int    `json:"tokens"`
	Calls  int    `json:"calls"`
}
