package wire

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"strconv"
	"strings"
)

// Kind tells the JSON-RPC 2.0 messages apart.
type Kind uint8

// The kinds of frame.
const (
	Request      Kind = iota + 1 // has a method and an id
	Notification                 // has a method and no id
	Response                     // has a result or an error
	Batch                        // an array of the above (MCP 2025-03-26 and older only)
)

func (k Kind) String() string {
	return [...]string{"invalid", "request", "notification", "response", "batch"}[k]
}

// Frame is the envelope of one message: spans into the bytes it was read from.
type Frame struct {
	Kind   Kind
	ID     Span // raw JSON, string or number; empty for notifications
	Method string
	Params Span
	Result Span
	Error  Span
	// Failed is set for a result whose isError member is true: the tool ran
	// and reports an error of its own.
	Failed bool
	// ResultType is the value of a result's resultType member (2026-07-28).
	ResultType Span
	// Items are the elements of a batch.
	Items []Span
}

// FrameError says why bytes are not an acceptable JSON-RPC 2.0 message. Code is
// the JSON-RPC error code that the sender should be given.
type FrameError struct {
	Code int
	What string
}

func (e *FrameError) Error() string { return e.What }

// MaxBatch bounds the number of messages in one batch.
const MaxBatch = 100

var envelopeNames = []string{"jsonrpc", "id", "method", "params", "result", "error"}

// guarded returns the index of name in names, or -1 for a member that is not
// looked at. A member that only a careless reader would take for one of names
// is an error: it would let two readers see two different messages.
func guarded(names []string, name string) (int, error) {
	for i, n := range names {
		if n == name {
			return i, nil
		}
		// Not only of the same length: some letters beyond ASCII fold into it.
		if len(n) <= len(name) && strings.EqualFold(n, name) {
			return 0, &FrameError{CodeInvalidRequest, fmt.Sprintf("member %q must be spelled %q", name, n)}
		}
	}
	return -1, nil
}

// ReadFrame reads the envelope of the message in b, in one pass. The error is
// a *FrameError.
func ReadFrame(b []byte) (Frame, error) {
	i := skipSpace(b, 0)
	if i >= len(b) {
		return Frame{}, &FrameError{CodeParse, "the body is empty"}
	}
	if b[i] == '[' {
		return readBatch(b, i)
	}
	f, end, err := readEnvelope(b, i)
	if err != nil {
		return Frame{}, err
	}
	if rest := skipSpace(b, end); rest != len(b) {
		return Frame{}, &FrameError{CodeParse, fmt.Sprintf("not JSON at byte %d: something follows the message", rest)}
	}
	return f, nil
}

// ReadFrameAt reads the envelope of the message under s, for an element of a
// batch.
func ReadFrameAt(b []byte, s Span) (Frame, error) {
	f, _, err := readEnvelope(b, s.Start)
	return f, err
}

func readEnvelope(b []byte, i int) (Frame, int, error) {
	if b[i] != '{' {
		if _, err := skipValue(b, i, 0); err != nil {
			return Frame{}, 0, &FrameError{CodeParse, err.Error()}
		}
		return Frame{}, 0, &FrameError{CodeInvalidRequest, "a message is a JSON object"}
	}
	var f Frame
	var at [6]Span
	end, err := eachMember(b, i, 0, func(key Span, from int) (int, error) {
		n, err := guarded(envelopeNames, keyText(b, key))
		if err != nil {
			return 0, err
		}
		var to int
		if n == 4 && from < len(b) && b[from] == '{' {
			to, err = eachMember(b, from, 1, func(key Span, from int) (int, error) {
				to, err := skipValue(b, from, 2)
				switch {
				case err != nil:
				case b[from] == 't' && keyIs(b, key, "isError"):
					f.Failed = true
				case b[from] == '"' && keyIs(b, key, "resultType"):
					f.ResultType = Span{from, to}
				}
				return to, err
			})
		} else {
			to, err = skipValue(b, from, 1)
		}
		if err != nil || n < 0 {
			return to, err
		}
		if !at[n].Empty() {
			return 0, &FrameError{CodeInvalidRequest, fmt.Sprintf("member %q is there twice", envelopeNames[n])}
		}
		at[n] = Span{from, to}
		return to, nil
	})
	if err != nil {
		if fe := (*FrameError)(nil); errors.As(err, &fe) {
			return Frame{}, 0, fe
		}
		return Frame{}, 0, &FrameError{CodeParse, err.Error()}
	}
	f.ID, f.Params, f.Result, f.Error = at[1], at[3], at[4], at[5]
	return f, end, classify(b, &f, at[0], at[2])
}

func classify(b []byte, f *Frame, version, method Span) error {
	if v, ok := StringAt(b, version); version.Empty() || !ok || v != "2.0" {
		return &FrameError{CodeInvalidRequest, `member "jsonrpc" must be "2.0"`}
	}
	if !f.ID.Empty() {
		switch c := b[f.ID.Start]; {
		case c == '"', c == '-', c >= '0' && c <= '9':
			if f.ID.End-f.ID.Start > 256 {
				return &FrameError{CodeInvalidRequest, `member "id" is longer than 256 bytes`}
			}
		case c == 'n' && method.Empty():
			// An error about a message whose id could not be read carries null.
		default:
			return &FrameError{CodeInvalidRequest, `member "id" must be a string or a number`}
		}
	}
	if !method.Empty() {
		m, ok := StringAt(b, method)
		if !ok || m == "" {
			return &FrameError{CodeInvalidRequest, `member "method" must be a string`}
		}
		if !f.Result.Empty() || !f.Error.Empty() {
			return &FrameError{CodeInvalidRequest, "a message has either a method or a result"}
		}
		if !f.Params.Empty() && b[f.Params.Start] != '{' {
			return &FrameError{CodeInvalidRequest, `member "params" must be an object`}
		}
		f.Method, f.Kind = m, Request
		if f.ID.Empty() {
			f.Kind = Notification
		}
		return nil
	}
	if f.Result.Empty() == f.Error.Empty() {
		return &FrameError{CodeInvalidRequest, "a message has a method, a result or an error, and one of them only"}
	}
	if f.ID.Empty() {
		return &FrameError{CodeInvalidRequest, "a response needs an id"}
	}
	f.Kind = Response
	return nil
}

func readBatch(b []byte, i int) (Frame, error) {
	f := Frame{Kind: Batch}
	end, err := eachElement(b, i, 0, func(at int) (int, error) {
		to, err := skipValue(b, at, 1)
		if err != nil {
			return 0, err
		}
		if len(f.Items) == MaxBatch {
			return 0, &FrameError{CodeInvalidRequest, fmt.Sprintf("a batch holds at most %d messages", MaxBatch)}
		}
		f.Items = append(f.Items, Span{at, to})
		return to, nil
	})
	if fe := (*FrameError)(nil); errors.As(err, &fe) {
		return Frame{}, fe
	}
	if err != nil {
		return Frame{}, &FrameError{CodeParse, err.Error()}
	}
	if rest := skipSpace(b, end); rest != len(b) {
		return Frame{}, &FrameError{CodeParse, fmt.Sprintf("not JSON at byte %d: something follows the batch", rest)}
	}
	if len(f.Items) == 0 {
		return Frame{}, &FrameError{CodeInvalidRequest, "a batch must not be empty"}
	}
	return f, nil
}

// AppendWithID appends the message in src to dst with its id replaced by the
// raw JSON in id. f must be the frame read from src.
func AppendWithID(dst, src []byte, f Frame, id []byte) []byte {
	return Splice(dst, src, Span{0, len(src)}, Edit{f.ID, id})
}

// AppendResult appends a response with the given raw id and raw result.
func AppendResult(dst, id, result []byte) []byte {
	dst = append(dst, `{"jsonrpc":"2.0","id":`...)
	dst = append(dst, id...)
	dst = append(dst, `,"result":`...)
	dst = append(dst, result...)
	return append(dst, '}')
}

// AppendError appends an error response. An empty id becomes null; data may be
// nil.
func AppendError(dst, id []byte, code int, message string, data any) []byte {
	if len(id) == 0 {
		id = []byte("null")
	}
	dst = append(dst, `{"jsonrpc":"2.0","id":`...)
	dst = append(dst, id...)
	dst = append(dst, `,"error":{"code":`...)
	dst = strconv.AppendInt(dst, int64(code), 10)
	dst = append(dst, `,"message":`...)
	dst = append(dst, Quote(message)...)
	if data != nil {
		if raw, err := json.Marshal(data); err == nil {
			dst = append(dst, `,"data":`...)
			dst = append(dst, raw...)
		}
	}
	return append(dst, '}', '}')
}

// AppendNotification appends a notification; params is raw JSON or nil.
func AppendNotification(dst []byte, method string, params []byte) []byte {
	dst = append(dst, `{"jsonrpc":"2.0","method":`...)
	dst = append(dst, Quote(method)...)
	if len(params) > 0 {
		dst = append(dst, `,"params":`...)
		dst = append(dst, params...)
	}
	return append(dst, '}')
}

// AppendRequest appends a request with a numeric id; params is raw JSON or nil.
func AppendRequest(dst []byte, id uint64, method string, params []byte) []byte {
	dst = append(dst, `{"jsonrpc":"2.0","id":`...)
	dst = strconv.AppendUint(dst, id, 10)
	dst = append(dst, `,"method":`...)
	dst = append(dst, Quote(method)...)
	if len(params) > 0 {
		dst = append(dst, `,"params":`...)
		dst = append(dst, params...)
	}
	return append(dst, '}')
}

// Quote returns text as a JSON string without escaping for HTML.
func Quote(text string) []byte {
	if plain(text) {
		out := make([]byte, 0, len(text)+2)
		return append(append(append(out, '"'), text...), '"')
	}
	var buf bytes.Buffer
	enc := json.NewEncoder(&buf)
	enc.SetEscapeHTML(false)
	// Encoding a string cannot fail: invalid UTF-8 is replaced.
	_ = enc.Encode(text)
	return bytes.TrimRight(buf.Bytes(), "\n")
}

// plain reports whether a text is a JSON string when it is put between quotes, as nearly all are
// that are quoted on the way of a call.
func plain(text string) bool {
	for i := range len(text) {
		if c := text[i]; c < ' ' || c >= 0x80 || c == '"' || c == '\\' {
			return false
		}
	}
	return true
}

// RPCError is the error member of a response.
type RPCError struct {
	Code    int             `json:"code"`
	Message string          `json:"message"`
	Data    json.RawMessage `json:"data,omitempty"`
}

// ReadError decodes the error under s; a malformed one becomes a CodeInternal
// error that says so.
func ReadError(b []byte, s Span) RPCError {
	var e RPCError
	if json.Unmarshal(s.Of(b), &e) != nil {
		return RPCError{Code: CodeInternal, Message: "the server sent a malformed error"}
	}
	return e
}

// SameID reports whether the raw id under s is the number n.
func SameID(b []byte, s Span, n uint64) bool {
	raw := s.Of(b)
	if len(raw) > 20 {
		return false
	}
	var buf [20]byte
	return bytes.Equal(raw, strconv.AppendUint(buf[:0], n, 10))
}
