package link

import (
	"context"
	"time"

	"bouncer/internal/core/wire"
)

// Ask is a request, and on whose behalf it is sent.
type Ask struct {
	wire.Ask
	// ID is one that NextID gave, so that the request can be cancelled while Begin
	// waits; 0 lets the link choose.
	ID     uint64
	Client Client
	// Stage names what is being done, for diagnosis.
	Stage string
	// Mirrors are the arguments of the tool that go into headers.
	Mirrors []wire.Mirror
	// Pauses asks to be told when the server interrupts its answer.
	Pauses bool
}

// Pause is what Next returns when the server has broken off its stream and wants
// to be asked again after a while (MCP 2025-11-25, transports: a server may close
// the stream at any time). The call goes on: the next Next waits that long and
// takes the stream up again.
type Pause struct{ Retry time.Duration }

// Error implements error.
func (p *Pause) Error() string {
	return "the server interrupted its answer for " + p.Retry.String()
}

// Client is who a request is sent for, as the server is told: what it can do,
// what it calls itself (raw JSON, or nil) and which log messages it wants.
type Client struct {
	Caps  wire.Caps
	Info  []byte
	Level string
}

// Listener is told of a message that belongs to no exchange: a notification, or a
// request of the server. A request is answered through answer; the ear returns
// false when it will not do that. It must not block, and the frame is valid only
// until it returns.
type Listener func(frame []byte, f wire.Frame, answer func(body []byte)) bool

// Exchange is one request on its way: the messages that the server sends for
// it, ending with the answer. Next is called by one goroutine; Answer may be
// called by others. It must be closed.
type Exchange interface {
	// ID is the id, and the progress token, that the request went out with.
	ID() uint64
	// Next returns the next message for this request: notifications and requests
	// of the server, then the response. The frame is valid until the next call.
	Next() (frame []byte, f wire.Frame, err error)
	// Answer sends a response to a request of the server.
	Answer(ctx context.Context, body []byte) error
	Close()
}
