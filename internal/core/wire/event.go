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
	// feed is set after a line that ended with CR: a LF that follows belongs to it.
	feed bool
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

// readLine reads to the next line end: LF, CR, or both.
func (r *EventReader) readLine() ([]byte, error) {
	r.line = r.line[:0]
	for {
		if _, err := r.r.Peek(1); err != nil {
			return nil, err
		}
		ahead, err := r.r.Peek(r.r.Buffered())
		if err != nil {
			return nil, err
		}
		if r.feed {
			r.feed = false
			if ahead[0] == '\n' {
				_, _ = r.r.Discard(1) // it is there
				continue
			}
		}
		at := lineEnd(ahead)
		part := ahead
		if at >= 0 {
			part = ahead[:at]
		}
		if len(r.line)+len(part) > r.max+16 {
			return nil, fmt.Errorf("%w of %d bytes", ErrEventTooLarge, r.max)
		}
		if at < 0 {
			r.line = append(r.line, part...)
			_, _ = r.r.Discard(len(ahead))
			continue
		}
		r.feed = ahead[at] == '\r'
		_, _ = r.r.Discard(at + 1)
		if len(r.line) == 0 {
			return part, nil // it stays in the buffer until the next line is read
		}
		r.line = append(r.line, part...)
		return r.line, nil
	}
}

// AppendEvent appends one event with the default name. Line ends inside data
// (LF, CR, or both) are kept as such by splitting it over several data lines, so that
// no data begins a line of its own.
func AppendEvent(dst []byte, id string, data []byte) []byte {
	if id != "" {
		dst = append(append(append(dst, "id: "...), id...), '\n')
	}
	for {
		at := lineEnd(data)
		if at < 0 {
			dst = append(append(append(dst, "data: "...), data...), '\n')
			return append(dst, '\n')
		}
		dst = append(append(append(dst, "data: "...), data[:at]...), '\n')
		if data[at] == '\r' && at+1 < len(data) && data[at+1] == '\n' {
			at++
		}
		data = data[at+1:]
	}
}

// lineEnd is where the first CR or LF is; -1 for nowhere. Both searches are far
// quicker than one for either.
func lineEnd(data []byte) int {
	feed := bytes.IndexByte(data, '\n')
	if feed >= 0 {
		data = data[:feed]
	}
	if back := bytes.IndexByte(data, '\r'); back >= 0 {
		return back
	}
	return feed
}
