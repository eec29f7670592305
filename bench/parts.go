package main

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"bouncer/internal/calls"
	"bouncer/internal/core/mask"
	"bouncer/internal/core/segment"
	"bouncer/internal/core/team"
	"bouncer/internal/core/wire"
	"bouncer/internal/store"
)

// parts measures, in this process, the parts of a call that a reverse proxy does
// not have, to say where the difference goes.
func parts(ctx context.Context, size int) error {
	text := strings.Repeat("abcdefgh ", size/9+1)[:size]
	body := []byte(`{"jsonrpc":"2.0","id":1,"method":"tools/call","params":{"name":"echo__echo","arguments":{"text":"` + text + `"}}}`)
	reply := []byte(`{"jsonrpc":"2.0","id":7,"result":{"content":[{"type":"text","text":"` + text + `"}]}}`)
	m := mask.New([]string{"bench-token-0123456789"})
	const kept = 2048
	reading := per(func() {
		f, _ := wire.ReadFrame(body)
		p, _ := wire.ReadParams(body, f.Params, f.Method)
		ask := wire.Ask{Method: f.Method, Src: body, Params: f.Params, P: p, Subject: "echo"}
		_ = ask.Append(make([]byte, 0, len(body)+96), 7, nil)
		rf, _ := wire.ReadFrame(reply)
		_ = wire.AppendWithID(make([]byte, 0, len(reply)+8), reply, rf, []byte("1"))
	})
	masking := per(func() {
		_, _ = m.Cut(text, kept)
		_, _ = m.Cut(text, kept)
	})
	dir, err := os.MkdirTemp("", "bench")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	s, err := store.Open(ctx, filepath.Join(dir, "b.db"), store.Options{})
	if err != nil {
		return err
	}
	defer s.Close()
	const batch = 256
	log := calls.NewWriter(s)
	key := segment.KeyAt(time.Now())
	rows := make([]calls.Record, batch)
	shown := text[:min(len(text), kept)]
	var failed error
	writing := per(func() {
		for i := range rows {
			key++
			rows[i] = calls.Record{
				Key: key,
				Call: team.Call{
					Agent:     "bench",
					Server:    "echo",
					Tool:      "echo",
					Decision:  "admit",
					Rule:      "01KAS3V4M0W5Z4T7Q2R8X9Y1AB",
					Outcome:   "ok",
					Arguments: shown,
					Result:    shown,
				},
			}
		}
		if err := log.Append(ctx, rows); err != nil {
			failed = err
		}
	}) / batch
	fmt.Printf(
		"         of Bouncer's CPU at %d bytes: reading and splicing %v, masking %v, writing the record (in batches of %d) %v; the rest is HTTP on both sides\n\n",
		size,
		reading.Round(100*time.Nanosecond),
		masking.Round(100*time.Nanosecond),
		batch,
		writing.Round(100*time.Nanosecond),
	)
	return failed
}

// per returns how long fn takes, over a quarter of a second.
func per(fn func()) time.Duration {
	fn()
	n, began := 0, time.Now()
	for time.Since(began) < 250*time.Millisecond {
		fn()
		n++
	}
	return time.Since(began) / time.Duration(n)
}
