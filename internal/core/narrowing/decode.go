package narrowing

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"
)

// Limits on what is decoded to be judged. What is over them is refused, since nobody
// can say what a server would make of it.
const (
	maxDepth    = 64
	maxDigits   = 100
	maxExponent = 308
)

// UnclearError says why a value has no single meaning.
type UnclearError struct{ Why string }

func (e *UnclearError) Error() string { return e.Why }

// Decode reads one JSON value so that it can have one meaning only: a member that
// occurs twice, or a number beyond what programs agree on, is an UnclearError. Numbers
// are json.Number.
func Decode(raw []byte) (any, error) {
	d := json.NewDecoder(bytes.NewReader(raw))
	d.UseNumber()
	v, err := decodeValue(d, "", 0)
	if err != nil {
		return nil, err
	}
	if _, err := d.Token(); !errors.Is(err, io.EOF) {
		return nil, &UnclearError{"something follows after the value"}
	}
	return v, nil
}

func decodeValue(d *json.Decoder, at string, depth int) (any, error) {
	token, err := d.Token()
	if err != nil {
		return nil, &UnclearError{"it is not JSON: " + err.Error()}
	}
	if depth > maxDepth {
		return nil, &UnclearError{"it is nested too deeply"}
	}
	switch t := token.(type) {
	case json.Delim:
		if t == '{' {
			return decodeObject(d, at, depth)
		}
		return decodeArray(d, at, depth)
	case json.Number:
		return t, checkNumber(at, t.String())
	}
	return token, nil
}

func decodeObject(d *json.Decoder, at string, depth int) (any, error) {
	out := map[string]any{}
	for d.More() {
		token, err := d.Token()
		if err != nil {
			return nil, &UnclearError{"it is not JSON: " + err.Error()}
		}
		name, _ := token.(string) // the decoder takes nothing else in this place
		place := join(at, name)
		if _, twice := out[name]; twice {
			return nil, &UnclearError{fmt.Sprintf("%s occurs twice", place)}
		}
		if out[name], err = decodeValue(d, place, depth+1); err != nil {
			return nil, err
		}
	}
	_, err := d.Token()
	if err != nil {
		return nil, &UnclearError{"it is not JSON: " + err.Error()}
	}
	return out, nil
}

func decodeArray(d *json.Decoder, at string, depth int) (any, error) {
	out := []any{}
	for d.More() {
		v, err := decodeValue(d, join(at, strconv.Itoa(len(out))), depth+1)
		if err != nil {
			return nil, err
		}
		out = append(out, v)
	}
	if _, err := d.Token(); err != nil {
		return nil, &UnclearError{"it is not JSON: " + err.Error()}
	}
	return out, nil
}

func checkNumber(at, n string) error {
	_, exponent, has := strings.Cut(strings.ToLower(n), "e")
	if has {
		if e, err := strconv.Atoi(exponent); err != nil || e > maxExponent || e < -maxExponent {
			return &UnclearError{fmt.Sprintf("%s is a number that programs do not agree on", place(at))}
		}
	}
	if len(n) > maxDigits {
		return &UnclearError{fmt.Sprintf("%s is a number that programs do not agree on", place(at))}
	}
	return nil
}

func join(at, name string) string {
	if len(name) > 80 {
		name = strings.ToValidUTF8(name[:80], "") + "..."
	}
	if at == "" {
		return name
	}
	return at + "." + name
}

func place(at string) string {
	if at == "" {
		return "the value"
	}
	return at
}

// encode writes a decoded value; members are in the order of their names.
func encode(v any) []byte {
	var b bytes.Buffer
	e := json.NewEncoder(&b)
	e.SetEscapeHTML(false)
	// What was decoded can be encoded.
	_ = e.Encode(v)
	return bytes.TrimSuffix(b.Bytes(), []byte("\n"))
}

// clone copies what may be altered.
func clone(v any) any {
	switch v := v.(type) {
	case map[string]any:
		out := make(map[string]any, len(v))
		for name, member := range v {
			out[name] = clone(member)
		}
		return out
	case []any:
		out := make([]any, len(v))
		for i, member := range v {
			out[i] = clone(member)
		}
		return out
	}
	return v
}
