package evidence

import (
	"bytes"
	"encoding/json"
	"strconv"
	"strings"
	"unicode/utf8"

	"bouncer/internal/core/wire"
)

// Shape is the form of an answer: what the bytes are, whatever they are said to be.
type Shape string

// The shapes.
const (
	Nothing     Shape = "nothing"
	Message     Shape = "a message"
	OtherJSON   Shape = "JSON that is no message"
	BrokenJSON  Shape = "broken JSON"
	Batched     Shape = "a batch"
	Page        Shape = "a web page"
	Text        Shape = "text"
	Help        Shape = "a help text"
	Marked      Shape = "a message after a byte-order mark"
	Wide        Shape = "UTF-16"
	NoUTF8      Shape = "bytes that are no UTF-8"
	Compressed  Shape = "compressed bytes"
	Framed      Shape = "messages framed by headers"
	SeveralLine Shape = "a message over several lines"
)

// Reply is an answer, read.
type Reply struct {
	Shape Shape
	// ID says what is wrong with the id of a message; "" for nothing.
	ID string
	// Version is set when the message lacks jsonrpc 2.0.
	Version bool
	Result  bool
	Error   *RPCError
	// Event is set when it came in an event stream.
	Event bool
	// Quote is the beginning of what came, for people.
	Quote string
}

// ReadReply tells what the bytes of an answer to the request id are.
func ReadReply(b []byte, id uint64) Reply {
	r := Reply{Quote: quote(b)}
	trimmed := bytes.TrimSpace(b)
	if len(trimmed) == 0 {
		r.Shape = Nothing
		return r
	}
	if r.Shape = encoding(trimmed); r.Shape != "" {
		if r.Shape == Wide {
			r.Quote = quote(bytes.ReplaceAll(trimmed, []byte{0}, nil))
		}
		return r
	}
	switch {
	case framed(trimmed):
		r.Shape = Framed
	case isPage(trimmed):
		r.Shape = Page
	case trimmed[0] == '[' && json.Valid(trimmed):
		r.Shape = Batched
		if !holdsMessages(trimmed) {
			r.Shape = OtherJSON
		}
	case trimmed[0] == '{' && json.Valid(trimmed):
		r.read(trimmed, id)
	case beginsJSON(trimmed):
		r.Shape = BrokenJSON
	case isHelp(string(trimmed)):
		r.Shape = Help
	case json.Valid(trimmed):
		r.Shape = OtherJSON
	default:
		r.Shape = Text
	}
	return r
}

// encoding names what is wrong with bytes before they are text; "" for nothing.
func encoding(b []byte) Shape {
	switch {
	case bytes.HasPrefix(b, []byte{0xEF, 0xBB, 0xBF}):
		return Marked
	case bytes.HasPrefix(b, []byte{0xFF, 0xFE}), bytes.HasPrefix(b, []byte{0xFE, 0xFF}), zeros(b):
		return Wide
	case bytes.HasPrefix(b, []byte{0x1F, 0x8B}), bytes.HasPrefix(b, []byte{0x28, 0xB5, 0x2F, 0xFD}):
		return Compressed
	case !utf8.Valid(whole(b)):
		return NoUTF8
	}
	return ""
}

// whole leaves out a rune at the end that was cut off by a limit.
func whole(b []byte) []byte {
	for i := 1; i < utf8.UTFMax && i <= len(b); i++ {
		if utf8.RuneStart(b[len(b)-i]) {
			if !utf8.FullRune(b[len(b)-i:]) {
				return b[:len(b)-i]
			}
			return b
		}
	}
	return b
}

// zeros reports whether about every second byte is zero, as of ASCII in UTF-16.
func zeros(b []byte) bool {
	head := b[:min(len(b), 64)]
	return len(head) >= 4 && bytes.Count(head, []byte{0})*3 >= len(head)
}

func framed(b []byte) bool {
	head := strings.ToLower(string(b[:min(len(b), 80)]))
	return strings.HasPrefix(head, "content-length:") || strings.HasPrefix(head, "content-type:")
}

// holdsMessages reports whether a list is one of messages.
func holdsMessages(b []byte) bool {
	f, err := wire.ReadFrame(b)
	if err != nil || f.Kind != wire.Batch || len(f.Items) == 0 {
		return false
	}
	first := f.Items[0].Of(b)
	return first[0] == '{' && bytes.Contains(first, []byte(`"jsonrpc"`))
}

// beginsJSON tells an object or a list that is broken from a line of a log that begins
// with a bracket.
func beginsJSON(b []byte) bool {
	next := bytes.TrimLeft(b[1:], " \t\r\n")
	switch b[0] {
	case '{':
		return len(next) == 0 || bytes.IndexByte([]byte(`"'}`), next[0]) >= 0
	case '[':
		return len(next) == 0 || bytes.IndexByte([]byte(`{["]`), next[0]) >= 0
	}
	return false
}

func isPage(b []byte) bool {
	head := strings.ToLower(string(b[:min(len(b), 512)]))
	return strings.HasPrefix(head, "<!doctype html") || strings.HasPrefix(head, "<html") ||
		(strings.HasPrefix(head, "<") && (strings.Contains(head, "<html") || strings.Contains(head, "<head")))
}

func isHelp(text string) bool {
	head := strings.ToLower(text)
	return strings.HasPrefix(head, "usage:") || strings.Contains(head, "\nusage:") || strings.Contains(head, "\noptions:") ||
		strings.Contains(head, "--help")
}

// read reads a JSON object as a message of JSON-RPC.
func (r *Reply) read(b []byte, id uint64) {
	var m struct {
		Version *string         `json:"jsonrpc"`
		ID      json.RawMessage `json:"id"`
		Method  *string         `json:"method"`
		Result  json.RawMessage `json:"result"`
		Error   json.RawMessage `json:"error"`
	}
	if json.Unmarshal(b, &m) != nil || (m.Result == nil && m.Error == nil && m.Method == nil) {
		r.Shape = OtherJSON
		return
	}
	if m.Version == nil && m.ID == nil {
		r.Shape = OtherJSON // an error of something else, in JSON
		return
	}
	r.Shape, r.Version, r.Result = Message, m.Version == nil || *m.Version != "2.0", m.Result != nil
	if m.Error != nil && string(m.Error) != "null" {
		var e struct {
			Code    int             `json:"code"`
			Message string          `json:"message"`
			Data    json.RawMessage `json:"data"`
		}
		if json.Unmarshal(m.Error, &e) != nil {
			e.Message = string(m.Error)
		}
		r.Error = &RPCError{e.Code, e.Message, string(e.Data)}
	}
	if m.Method == nil {
		r.ID = wrongID(m.ID, id, r.Error != nil)
	}
}

// wrongID says how the id of an answer differs from that of the request.
func wrongID(got json.RawMessage, want uint64, failed bool) string {
	text := strings.TrimSpace(string(got))
	switch {
	case text == strconv.FormatUint(want, 10):
		return ""
	case text == "":
		return "it has no id"
	case text == "null" && failed:
		return "" // an error that could not be told which request it is of (JSON-RPC 2.0, section 5)
	}
	return "its id is " + text
}

// quote makes the beginning of bytes fit to be shown to people.
func quote(b []byte) string {
	const most = 160
	text := strings.ToValidUTF8(string(b[:min(len(b), 4*most)]), "�")
	text = strings.Join(strings.Fields(strings.Map(func(r rune) rune {
		if r < ' ' && r != '\n' && r != '\t' {
			return -1
		}
		return r
	}, text)), " ")
	if r := []rune(text); len(r) > most {
		return string(r[:most]) + "…"
	}
	return text
}

// Quoted makes the beginning of bytes fit to be shown to people.
func Quoted(b []byte) string { return quote(b) }
