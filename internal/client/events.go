package client

import (
	"bufio"
	"context"
	"io"
	"strings"
)

// maxEvent is the longest line of an event, in bytes.
const maxEvent = 16 << 20

// Listen opens the stream of events and sends a signal for each event of the
// wanted name. Signals are not queued: until one is taken, more of them count as
// one. The channel is closed when the stream or ctx ends.
func (c *Client) Listen(ctx context.Context, wanted string) (<-chan struct{}, error) {
	body, err := c.Stream(ctx, "/api/events")
	if err != nil {
		return nil, err
	}
	out := make(chan struct{}, 1)
	go listen(body, wanted, out)
	return out, nil
}

func listen(body io.ReadCloser, wanted string, out chan<- struct{}) {
	defer close(out)
	defer body.Close()
	lines := bufio.NewScanner(body)
	lines.Buffer(nil, maxEvent)
	for lines.Scan() {
		name, ok := strings.CutPrefix(lines.Text(), "event: ")
		if !ok || name != wanted {
			continue
		}
		select {
		case out <- struct{}{}:
		default:
		}
	}
}
