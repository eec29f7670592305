package wire

import (
	"encoding/json"
	"fmt"
	"strconv"
	"strings"
)

// WithArguments returns a request with other arguments, read anew. arguments is raw JSON.
func WithArguments(body []byte, f Frame, p Params, arguments []byte) ([]byte, Frame, Params, error) {
	edit := Edit{Span: p.Arguments, With: arguments}
	if edit.Span.Empty() {
		// After the brace that opens the parameters.
		at := f.Params.Start + 1
		with := append([]byte(`"arguments":`), arguments...)
		if strings.TrimSpace(string(body[at:f.Params.End])) != "}" {
			with = append(with, ',')
		}
		edit = Edit{Span: Span{Start: at, End: at}, With: with}
	}
	altered := Splice(nil, body, Span{Start: 0, End: len(body)}, edit)
	f, err := ReadFrame(altered)
	if err != nil {
		return nil, f, p, fmt.Errorf("read the request: %w", err)
	}
	p, err = ReadParams(altered, f.Params, f.Method)
	if err != nil {
		return nil, f, p, fmt.Errorf("read the request: %w", err)
	}
	return altered, f, p, nil
}

// NameOf is the name that a program gives itself (MCP, Implementation); "" for none.
func NameOf(info []byte) string {
	if len(info) == 0 {
		return ""
	}
	name, _ := StringAt(info, Member(info, Span{Start: 0, End: len(info)}, "name"))
	return name
}

// Addresses puts the addresses that an error asks to be opened into words.
func Addresses(data json.RawMessage) string {
	var d struct {
		Elicitations []struct{ Message, URL string }
	}
	if json.Unmarshal(data, &d) != nil {
		return ""
	}
	var b strings.Builder
	for i, e := range d.Elicitations {
		if i < 10 {
			b.WriteString("; open " + e.URL + " first (" + e.Message + ")")
		}
	}
	return b.String()
}

// AddressQuestions turns an error that asks for addresses to be opened (MCP 2025-11-25, elicitation) into
// the questions by which the next revision asks for that; nil when it names none, or more than most.
func AddressQuestions(data json.RawMessage, most int) map[string]json.RawMessage {
	var d struct {
		Elicitations []map[string]json.RawMessage
	}
	if json.Unmarshal(data, &d) != nil || len(d.Elicitations) == 0 || len(d.Elicitations) > most {
		return nil
	}
	questions := make(map[string]json.RawMessage, len(d.Elicitations))
	for i, p := range d.Elicitations {
		if p == nil {
			p = map[string]json.RawMessage{}
		}
		delete(p, "elicitationId")
		p["mode"] = json.RawMessage(`"url"`)
		// What was read as JSON can be written as such.
		raw, _ := json.Marshal(map[string]any{"method": "elicitation/create", "params": p})
		questions["address"+strconv.Itoa(i+1)] = raw
	}
	return questions
}

// AppendToolError appends a response by which a tool says that it failed, and why.
func AppendToolError(dst, id []byte, text string, stateless bool) []byte {
	result := []byte(`{`)
	if stateless {
		result = append(result, `"resultType":"complete",`...)
	}
	result = append(append(result, `"isError":true,"content":[{"type":"text","text":`...), Quote(text)...)
	return AppendResult(dst, id, append(result, "}]}"...))
}

// Wanted reports whether a log message is of a level that is wanted, or above it; "" is for
// none.
func Wanted(level string, frame []byte, f Frame) bool {
	if level == "" || f.Params.Empty() {
		return false
	}
	at, _ := StringAt(frame, Member(frame, f.Params, "level"))
	return Level(at) >= Level(level)
}

// WithSubject returns a request about something else by its name, read anew.
func WithSubject(body []byte, f Frame, p Params, name string) ([]byte, Frame, Params, error) {
	at := Member(body, f.Params, "name")
	if at.Empty() {
		return nil, f, p, fmt.Errorf("read the request: it names nothing")
	}
	altered := Splice(nil, body, Span{Start: 0, End: len(body)}, Edit{Span: at, With: Quote(name)})
	f, err := ReadFrame(altered)
	if err != nil {
		return nil, f, p, fmt.Errorf("read the request: %w", err)
	}
	p, err = ReadParams(altered, f.Params, f.Method)
	if err != nil {
		return nil, f, p, fmt.Errorf("read the request: %w", err)
	}
	return altered, f, p, nil
}
