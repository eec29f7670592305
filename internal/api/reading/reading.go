// Package reading reads what a request to the API says, its body and its query, with errors
// that name the field and what it must be.
package reading

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"strconv"
	"strings"
	"time"

	"bouncer/internal/core/team"
)

// JSON reads the body into a T. Unknown members are refused, so that a typing
// error in a name is not silently ignored.
func JSON[T any](r *http.Request) (T, error) {
	var v T
	media, _, _ := strings.Cut(r.Header.Get("Content-Type"), ";")
	if strings.TrimSpace(media) != "application/json" {
		return v, &team.FieldError{Field: "Content-Type", Why: "must be application/json"}
	}
	dec := json.NewDecoder(r.Body)
	dec.DisallowUnknownFields()
	err := dec.Decode(&v)
	if err == nil {
		if _, err := dec.Token(); err != io.EOF {
			return v, &team.FieldError{Field: "body", Why: "must be one JSON object and nothing after it"}
		}
		return v, nil
	}
	var large *http.MaxBytesError
	var typ *json.UnmarshalTypeError
	var syn *json.SyntaxError
	switch {
	case errors.As(err, &large):
		return v, err
	case errors.As(err, &typ):
		return v, &team.FieldError{Field: typ.Field, Why: "must be a " + typ.Type.String()}
	case errors.As(err, &syn):
		return v, &team.FieldError{Field: "body", Why: fmt.Sprintf("is not JSON at byte %d", syn.Offset)}
	case strings.HasPrefix(err.Error(), "json: unknown field "):
		name := strings.Trim(strings.TrimPrefix(err.Error(), "json: unknown field "), `"`)
		return v, &team.FieldError{Field: name, Why: "is no member of this request"}
	}
	return v, &team.FieldError{Field: "body", Why: "must be a JSON object"}
}

// Time reads a time of the query; the zero time when it is not given.
func Time(r *http.Request, name string) (time.Time, error) {
	v := r.URL.Query().Get(name)
	if v == "" {
		return time.Time{}, nil
	}
	t, err := time.Parse(time.RFC3339, v)
	if err != nil {
		return t, &team.FieldError{Field: name, Why: "must be a time like 2026-03-01T08:30:00Z (RFC 3339)"}
	}
	return t, nil
}

// Number reads a whole number of the query between two bounds.
func Number(r *http.Request, name string, otherwise, low, high int) (int, error) {
	v := r.URL.Query().Get(name)
	if v == "" {
		return otherwise, nil
	}
	n, err := strconv.Atoi(v)
	if err != nil || n < low || n > high {
		return 0, &team.FieldError{Field: name, Why: "must be a number from " + strconv.Itoa(low) + " to " + strconv.Itoa(high)}
	}
	return n, nil
}
