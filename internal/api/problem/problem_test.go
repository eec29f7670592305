package problem_test

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"testing"

	"github.com/stretchr/testify/assert"

	"bouncer/internal/api/problem"
	"bouncer/internal/core/diagnosis"
	"bouncer/internal/core/team"
	"bouncer/internal/login"
)

type damaged struct{}

func (damaged) Error() string { return "the file is damaged" }
func (damaged) Damaged() bool { return true }

// Every error has one status, also below what was being done; what nobody foresaw tells
// nothing of what went wrong inside.
func TestErrorsHaveTheirStatus(t *testing.T) {
	t.Parallel()
	finding := diagnosis.Finding{Cause: diagnosis.WrongPath, Message: "nothing is there", Remedy: "look elsewhere"}
	for _, row := range []struct {
		err               error
		status            int
		title, code, hint string
	}{
		{&team.FieldError{Field: "name", Why: "is too long"}, 422, "too long", "", ""},
		{&team.NotFoundError{Kind: "server", Name: "quay"}, 404, "quay", "", "bouncer server list"},
		{&team.NotFoundError{Kind: "authorization", Name: "x"}, 404, "x", "", "begin again"},
		{&team.NotAllowedError{Hint: "ask an admin"}, 403, "", "", "ask an admin"},
		{&team.ConflictError{Field: "version", Hint: "look again"}, 409, "", "", "look again"},
		{&team.ProbeError{Finding: finding}, 502, "nothing is there", string(diagnosis.WrongPath), "look elsewhere"},
		{&team.ThrottledError{}, 429, "", "", ""},
		{login.ErrWrongPassword, 401, "", "", "check both"},
		{&http.MaxBytesError{Limit: 77}, 413, "77 bytes", "", ""},
		{context.Canceled, 503, "given up", "", "try again"},
		{context.DeadlineExceeded, 503, "given up", "", "try again"},
		{damaged{}, 500, "damaged", "", "bouncer backup"},
		{errors.New("/var/lib: no such file"), 500, "something failed inside Bouncer", "", "log"},
	} {
		p := problem.Of(fmt.Errorf("read the state: %w", row.err))
		assert.Equal(t, row.status, p.Status, "%v", row.err)
		assert.Contains(t, p.Title, row.title, "%v", row.err)
		assert.Equal(t, row.code, p.Code, "%v", row.err)
		assert.Contains(t, p.Hint, row.hint, "%v", row.err)
		assert.NotContains(t, p.Title+p.Hint, "/var/lib")
	}
}
