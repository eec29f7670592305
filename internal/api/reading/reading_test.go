package reading_test

import (
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bouncer/internal/api/reading"
	"bouncer/internal/core/team"
)

func fieldOf(t *testing.T, err error) string {
	t.Helper()
	var field *team.FieldError
	require.ErrorAs(t, err, &field)
	return field.Field
}

// What is wrong with a body is said with the name of the field.
func TestBodiesAreReadStrictly(t *testing.T) {
	t.Parallel()
	type Group struct {
		Late  bool     `json:"late"`
		Quays []string `json:"quays"`
	}
	type body struct {
		Name  string `json:"name"`
		Count int    `json:"count"`
		Group
	}
	ask := func(media, text string) (body, error) {
		r := httptest.NewRequest(http.MethodPost, "/", strings.NewReader(text))
		r.Header.Set("Content-Type", media)
		return reading.JSON[body](r)
	}
	got, err := ask("application/json; charset=utf-8", ` {"name":"quay","count":2} `)
	require.NoError(t, err)
	assert.Equal(t, body{Name: "quay", Count: 2}, got)
	for _, row := range []struct{ media, text, field string }{
		{"text/plain", `{}`, "Content-Type"},
		{"application/json", `{"nmae":"quay"}`, "nmae"},
		{"application/json", `{"count":"two"}`, "count"},
		{"application/json", `{"name":`, "body"},
		{"application/json", `{"name":}`, "body"},
		{"application/json", ``, "body"},
		{"application/json", `{} {}`, "body"},
		{"application/json", `[]`, "body"},
		{"application/json", `{"late":7}`, "late"},
		{"application/json", `{"quays":[7]}`, "quays"},
	} {
		_, err := ask(row.media, row.text)
		assert.Equal(t, row.field, fieldOf(t, err), row.text)
	}
}

// So it is with the query.
func TestTheQueryIsReadStrictly(t *testing.T) {
	t.Parallel()
	r := httptest.NewRequest(http.MethodGet, "/?since=2026-03-01T08:30:00Z&until=yesterday&limit=7&most=8&few=two", nil)
	at, err := reading.Time(r, "since")
	require.NoError(t, err)
	assert.Equal(t, 2026, at.Year())
	_, err = reading.Time(r, "until")
	assert.Equal(t, "until", fieldOf(t, err))
	at, err = reading.Time(r, "absent")
	require.NoError(t, err)
	assert.True(t, at.IsZero())
	n, err := reading.Number(r, "limit", 100, 1, 7)
	require.NoError(t, err)
	assert.Equal(t, 7, n)
	n, err = reading.Number(r, "absent", 100, 1, 7)
	require.NoError(t, err)
	assert.Equal(t, 100, n)
	for _, name := range []string{"most", "few"} {
		_, err = reading.Number(r, name, 1, 1, 7)
		assert.Equal(t, name, fieldOf(t, err))
	}
}
