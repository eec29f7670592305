// Package problem turns errors into what people and programs are told of them: a status, one
// sentence, the field that is wrong, and what helps (RFC 9457).
package problem

import (
	"context"
	"errors"
	"fmt"
	"net/http"

	"bouncer/internal/apitype"
	"bouncer/internal/core/diagnosis"
	"bouncer/internal/core/serverspec"
	"bouncer/internal/core/team"
	"bouncer/internal/login"
	"bouncer/internal/oauth"
)

// Of turns an error into what may be told. Status 500 is a fault of the service itself, and
// says less than its log has to have. It is long because it is that table.
func Of(err error) apitype.Problem {
	var field *team.FieldError
	var missing *team.NotFoundError
	var clash *team.ConflictError
	var disallowed *team.NotAllowedError
	var probe *team.ProbeError
	var wait *team.ThrottledError
	var pick *serverspec.OperationsError
	var denied *oauth.Error
	var failed interface {
		error
		Found() diagnosis.Finding
	}
	var large *http.MaxBytesError
	var broken interface {
		error
		Damaged() bool
	}
	var away interface {
		error
		Unavailable() string
	}
	switch {
	case errors.As(err, &away):
		return apitype.Problem{Status: 503, Title: away.Error(), Hint: away.Unavailable()}
	case errors.As(err, &field):
		return apitype.Problem{Status: 422, Title: field.Error(), Field: field.Field}
	case errors.As(err, &pick):
		return apitype.Problem{
			Status:   422,
			Title:    pick.Error(),
			Field:    "operations",
			Hint:     "pick those that are to be tools",
			Document: &pick.Document,
		}
	case errors.As(err, &missing):
		return apitype.Problem{
			Status: 404,
			Title:  missing.Error(),
			Hint:   afterMissing(missing.Kind),
		}
	case errors.As(err, &disallowed):
		return apitype.Problem{Status: 403, Title: disallowed.Error(), Hint: disallowed.Hint}
	case errors.As(err, &clash):
		return apitype.Problem{Status: 409, Title: clash.Error(), Field: clash.Field, Hint: clash.Hint}
	case errors.As(err, &denied):
		return apitype.Problem{
			Status: 502,
			Title:  "the sign-in cannot be begun: " + denied.Why,
			Code:   string(denied.Cause()),
			Hint:   denied.Remedy(),
		}
	case errors.As(err, &failed):
		f := failed.Found()
		return apitype.Problem{Status: 502, Title: f.Message, Code: string(f.Cause), Hint: f.Remedy, Finding: &f}
	case errors.As(err, &probe):
		what := probe.What
		if what == "" {
			what = "the server could not be reached as described"
		}
		return apitype.Problem{
			Status:  502,
			Title:   what + ": " + probe.Finding.Message,
			Code:    string(probe.Finding.Cause),
			Hint:    probe.Finding.Remedy,
			Finding: &probe.Finding,
			Stages:  probe.Stages,
		}
	case errors.As(err, &wait):
		return apitype.Problem{Status: 429, Title: wait.Error()}
	case errors.Is(err, login.ErrWrongPassword):
		return apitype.Problem{Status: 401, Title: err.Error(), Hint: "check both; after a few failed tries you have to wait"}
	case errors.As(err, &broken):
		return apitype.Problem{
			Status: 500, Title: broken.Error(),
			Hint: "stop the service and put a copy that bouncer backup wrote in its place; what else there is goes on meanwhile",
		}
	case errors.As(err, &large):
		return apitype.Problem{Status: 413, Title: fmt.Sprintf("the body is larger than %d bytes", large.Limit)}
	case errors.Is(err, context.Canceled), errors.Is(err, context.DeadlineExceeded):
		return apitype.Problem{Status: 503, Title: "the request was given up before it was done", Hint: "try again"}
	}
	return apitype.Problem{Status: 500, Title: "something failed inside Bouncer", Hint: "the service's log says what"}
}

// listed tells which command lists the things of a kind.
var listed = map[string]string{
	"agent":      "bouncer agent list",
	"budget":     "bouncer budget list",
	"bundle":     "bouncer bundle list",
	"call":       "bouncer journal",
	"change":     "bouncer change list",
	"code":       "bouncer agent invitations",
	"consent":    "bouncer consent list",
	"held call":  "bouncer held list --all",
	"example":    "bouncer example list SERVER",
	"incident":   "bouncer incident list",
	"tape":       "bouncer tape list",
	"invitation": "bouncer person invitations",
	"label":      "bouncer label list",
	"node":       "bouncer node list",
	"login":      "bouncer login list",
	"person":     "bouncer person list",
	"rule":       "bouncer rule list",
	"secret":     "bouncer secret list",
	"server":     "bouncer server list",
	"sign-in":    "bouncer sign-in list",

	"checkup of server": "bouncer checkup SERVER",
	"standing decision": "bouncer held standing",
	"tool":              "bouncer agent reach AGENT",
	"valid pass":        "bouncer agent passes",
}

func afterMissing(kind string) string {
	if list := listed[kind]; list != "" {
		return "check the spelling; " + list + " shows what there is"
	}
	return "it has ended, or somebody removed it meanwhile; begin again"
}
