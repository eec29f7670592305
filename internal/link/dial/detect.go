package dial

import (
	"context"
	"errors"
	"io"
	"net/http"
	"slices"

	"bouncer/internal/core/diagnosis"
	"bouncer/internal/core/team"
	"bouncer/internal/link"
	"bouncer/internal/link/internal/httpx"
	"bouncer/internal/link/sse"
	"bouncer/internal/link/streamable"
)

// Detect finds out which transport an address speaks: streamable HTTP in either
// era, or the event-stream transport of 2024-11-05. It returns the transport that
// was probed, and its name. When neither answers, the failure is that of the
// first. What is about credentials, and what failed in the network, is no verdict
// on the transport.
func Detect(
	ctx context.Context,
	s team.Server,
	c link.Credential,
	o link.Options,
) (link.Transport, string, link.Offer, []team.Stage, error) {
	t := target(s, c)
	h := streamable.New(t, o)
	offer, stages, err := h.Probe(ctx)
	var f *link.Failure
	if err == nil || !errors.As(err, &f) || !slices.Contains([]int{400, 404, 405}, f.Status) {
		return h, team.StreamableHTTP, offer, stages, err
	}
	old := sse.New(t, o)
	offer, later, err2 := old.Probe(ctx)
	if errors.As(err2, &f) && slices.Contains([]int{401, 403}, f.Status) {
		// It is that transport, and says what is wrong.
		h.Close(ctx)
		return old, team.EventStream, link.Offer{}, later, err2
	}
	if err2 != nil {
		old.Close(ctx)
		return h, team.StreamableHTTP, link.Offer{}, stages, err
	}
	h.Close(ctx)
	return old, team.EventStream, offer, later, nil
}

// Fetch gets a document without any credential. It follows no redirect. The
// error is a *Failure, or that of the context.
func Fetch(ctx context.Context, address string, limit int, o link.Options) ([]byte, error) {
	l := httpx.New(httpx.Target{URL: address}, o)
	defer l.Transport.CloseIdleConnections()
	ctx, cancel := context.WithTimeout(ctx, l.Options.SetupTimeout)
	defer cancel()
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, address, nil)
	if err != nil {
		return nil, err
	}
	res, err := l.Do(req)
	if err != nil {
		return nil, l.NetFailure(ctx, err, "initialize")
	}
	defer httpx.Drain(res.Body)
	raw, err := io.ReadAll(io.LimitReader(res.Body, int64(limit)+1))
	switch {
	case res.StatusCode != http.StatusOK:
		return nil, l.StatusFailure(res, nil, "initialize", raw)
	case err != nil:
		return nil, l.NetFailure(ctx, err, "initialize")
	case len(raw) > limit:
		return nil, l.Fail(diagnosis.Evidence{What: diagnosis.TooLarge}, nil)
	}
	return raw, nil
}
