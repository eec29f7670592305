// Package reading reads what a request to the API says, its body and its query, with errors
// that name the field and what it must be.
package reading

import (
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"reflect"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode"

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
		return v, &team.FieldError{Field: member(typ.Field), Why: "must be " + kindOf(typ.Type)}
	case errors.As(err, &syn):
		return v, &team.FieldError{Field: "body", Why: fmt.Sprintf("is not JSON at byte %d", syn.Offset)}
	case strings.HasPrefix(err.Error(), "json: unknown field "):
		name := strings.Trim(strings.TrimPrefix(err.Error(), "json: unknown field "), `"`)
		return v, &team.FieldError{Field: name, Why: "is no member of this request"}
	}
	return v, &team.FieldError{Field: "body", Why: "must be a JSON object"}
}

// member is a path to a member as it stands in a request, without what groups members in the
// program; body for the request itself.
func member(path string) string {
	parts := slices.DeleteFunc(strings.Split(path, "."), func(part string) bool { return part == "" || unicode.IsUpper(rune(part[0])) })
	return cmp.Or(strings.Join(parts, "."), "body")
}

// kindOf is what a member of a type is in JSON.
func kindOf(t reflect.Type) string {
	switch t.Kind() {
	case reflect.String:
		return "a string"
	case reflect.Bool:
		return "true or false"
	case reflect.Slice, reflect.Array:
		return "a list"
	case reflect.Int, reflect.Int8, reflect.Int16, reflect.Int32, reflect.Int64,
		reflect.Uint, reflect.Uint8, reflect.Uint16, reflect.Uint32, reflect.Uint64:
		return "a whole number"
	case reflect.Float32, reflect.Float64:
		return "a number"
	default:
		return "an object"
	}
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

// Yes reads a word of the query that is true or false; false when it is not given.
func Yes(r *http.Request, name string) (bool, error) {
	switch v := r.URL.Query().Get(name); v {
	case "", "false":
		return false, nil
	case "true":
		return true, nil
	}
	return false, &team.FieldError{Field: name, Why: "must be true or false"}
}

// Between reads the times since and until of the query.
func Between(r *http.Request) (since, until time.Time, err error) {
	if since, err = Time(r, "since"); err == nil {
		until, err = Time(r, "until")
	}
	return since, until, err
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
