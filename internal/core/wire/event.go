package wire

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"io"
	"strconv"
)

// Event is one event of a text/event-stream (WHATWG HTML, server-sent events).
type Event struct {
	ID   string
	Name string // empty means "message"
	Data []byte // valid until the next call of Next
	// Retry is the reconnection time in milliseconds, -1 when not given.
	Retry int
}

// ErrEventTooLarge is returned for an event above the reader's limit.
var ErrEventTooLarge = errors.New("an event is larger than the limit")

// EventReader reads events one by one, with a bound on the size of each.
type EventReader struct {
	r    *bufio.Reader
	max  int
	data []byte
	last string
	line []byte
}

// NewEventReader reads from r; an event with more than limit bytes is an error.
func NewEventReader(r io.Reader, limit int) *EventReader {
	return &EventReader{r: bufio.NewReaderSize(r, 4096), max: limit}
}

// Next returns the next event that carries data. Comments and events without
// data are passed over, except those that set an id or a retry time. At the
// end of the stream it returns io.EOF; an event cut off by the end is dropped,
// as the standard asks.
func (r *EventReader) Next() (Event, error) {
	ev := Event{Retry: -1, ID: r.last}
	r.data = r.data[:0]
	hasData, special := false, false
	for {
		line, err := r.readLine()
		if err != nil {
			return Event{}, err
		}
		if len(line) == 0 {
			if hasData || special {
				if hasData {
					r.data = r.data[:len(r.data)-1]
				}
				ev.Data = r.data
				return ev, nil
			}
			ev = Event{Retry: -1, ID: r.last}
			continue
		}
		field, value, _ := bytes.Cut(line, []byte(":"))
		value = bytes.TrimPrefix(value, []byte(" "))
		switch string(field) {
		case "data":
			if len(r.data)+len(value) >= r.max {
				return Event{}, fmt.Errorf("%w of %d bytes", ErrEventTooLarge, r.max)
			}
			r.data = append(append(r.data, value...), '\n')
			hasData = true
		case "event":
			ev.Name = string(value)
		case "id":
			if bytes.IndexByte(value, 0) < 0 {
				r.last, ev.ID, special = string(value), string(value), true
			}
		case "retry":
			if n, err := strconv.Atoi(string(value)); err == nil && n >= 0 {
				ev.Retry, special = n, true
			}
		}
	}
}

func (r *EventReader) readLine() ([]byte, error) {
	r.line = r.line[:0]
	for {
		part, err := r.r.ReadSlice('\n')
		if err == nil && len(r.line) == 0 {
			return bytes.TrimRight(part, "\r\n"), nil
		}
		if len(r.line)+len(part) > r.max+16 {
			return nil, fmt.Errorf("%w of %d bytes", ErrEventTooLarge, r.max)
		}
		r.line = append(r.line, part...)
		if err == nil {
			return bytes.TrimRight(r.line, "\r\n"), nil
		}
		if !errors.Is(err, bufio.ErrBufferFull) {
			return nil, err
		}
	}
}

// AppendEvent appends one event with the default name. Line ends inside data
// are kept by splitting it over several data lines.
func AppendEvent(dst []byte, id string, data []byte) []byte {
	if id != "" {
		dst = append(append(append(dst, "id: "...), id...), '\n')
	}
	for {
		line, rest, more := bytes.Cut(data, []byte("\n"))
		dst = append(append(append(dst, "data: "...), line...), '\n')
		if !more {
			return append(dst, '\n')
		}
		data = rest
	}
}
