package apitype

import "encoding/json"

// Try is something of a server that a person tries as an agent, without a model: a tool, a
// resource, a prompt, or the completion of an argument. Rules, budgets and holds are those of the agent.
type Try struct {
	Agent     string          `json:"agent"`
	Server    string          `json:"server,omitempty" doc:"can be left out when name is one that agents see"`
	Kind      string          `json:"kind,omitempty" enum:"tool,prompt,resource,completion" doc:"tool if left out; a completion is of an argument of a prompt, or of a variable of a resource template"`
	Name      string          `json:"name" doc:"the server's own name of a tool or prompt, or the one that agents see; the URI of a resource"`
	Arguments json.RawMessage `json:"arguments,omitempty"`
	Argument  string          `json:"argument,omitempty" doc:"of a completion: the argument whose value is completed; its beginning is among the arguments, with those that are known already"`
	// Answers and State belong to a further round, after questions of the server.
	Answers json.RawMessage `json:"answers,omitempty" doc:"answers to the questions of the round before, by their names"`
	State   string          `json:"state,omitempty" doc:"state of the round before, as it came"`
}

// KeepExample has a call kept as an example.
type KeepExample struct {
	Tool      string          `json:"tool" doc:"the server's own name"`
	Arguments json.RawMessage `json:"arguments,omitempty"`
}

// Tried is what came of it.
type Tried struct {
	Agent   string          `json:"agent"`
	Server  string          `json:"server"`
	Name    string          `json:"name"`
	Sent    json.RawMessage `json:"sent" doc:"the request as the agent would have sent it"`
	OK      bool            `json:"ok" doc:"there is a result, and it reports no error of the tool"`
	Result  json.RawMessage `json:"result,omitempty"`
	Error   string          `json:"error,omitempty" doc:"as the agent is told it"`
	Code    int             `json:"code,omitempty" doc:"of the error (JSON-RPC)"`
	MS      float64         `json:"ms" doc:"until the answer, in milliseconds"`
	Events  []TryEvent      `json:"events" doc:"what came before the answer: progress and log messages"`
	Unfit   string          `json:"unfit,omitempty" doc:"why the arguments do not fit the schema that the agent is shown; they were sent all the same"`
	Output  string          `json:"output,omitempty" doc:"why the structured content does not fit the output schema"`
	Asks    json.RawMessage `json:"asks,omitempty" doc:"questions of the server, by their names; to be answered in a further round"`
	Draft   json.RawMessage `json:"draft,omitempty" doc:"an answer to each question, to begin with"`
	State   string          `json:"state,omitempty" doc:"to be given back with the answers"`
	Command string          `json:"command" doc:"the same on the command line"`
}

// TryEvent is something that came before the answer.
type TryEvent struct {
	MS     float64         `json:"ms" doc:"since the request, in milliseconds"`
	Method string          `json:"method"`
	Params json.RawMessage `json:"params,omitempty"`
}
