package apitype

import (
	"bouncer/internal/core/diagnosis"
	"bouncer/internal/core/serverspec"
	"bouncer/internal/core/team"
)

// Problem is an error as the API tells it (RFC 9457, problem details).
type Problem struct {
	Title   string             `json:"title" doc:"what happened, in one sentence"`
	Status  int                `json:"status"`
	Code    string             `json:"code,omitempty" doc:"a word for programs, where they may have to act on it"`
	Field   string             `json:"field,omitempty" doc:"the input field that is concerned"`
	Hint    string             `json:"hint,omitempty" doc:"what helps"`
	Finding *diagnosis.Finding `json:"finding,omitempty" doc:"why a server could not be reached"`
	Stages  []team.Stage       `json:"stages,omitempty" doc:"the steps of reaching it"`
	// Document is set when operations have to be picked first.
	Document *serverspec.DocumentInfo `json:"document,omitempty" doc:"the OpenAPI document whose operations are to be picked"`
}
