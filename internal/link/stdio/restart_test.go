package stdio_test

import (
	"context"
	"io"
	"log/slog"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"bouncer/internal/core/team"
	"bouncer/internal/core/tools"
	"bouncer/internal/link"
	"bouncer/internal/link/stdio"
	"bouncer/internal/upstream"
)

func TestKeeperRestartsAProcess(t *testing.T) {
	t.Parallel()
	p := stdio.StartForTest(t, "plain")
	news := make(chan link.Status, 100)
	k := upstream.Start(
		t.Context(),
		p,
		[]tools.Tool{},
		upstream.Options{Log: slog.New(slog.NewTextHandler(io.Discard, nil)), Changed: func(s link.Status) { news <- s }},
	)
	defer k.Close(context.Background())
	next := func(tools int) {
		t.Helper()
		for deadline := time.After(30 * time.Second); ; {
			select {
			case st := <-news:
				if st.State == team.StateReady && st.Tools == tools {
					return
				}
			case <-deadline:
				require.Fail(t, "no such news", "%+v", k.Status())
			}
		}
	}
	next(1)
	_, err := stdio.Say(t.Context(), p, "more")
	require.NoError(t, err)
	next(2)
	pid := p.PID()
	_, err = stdio.Say(t.Context(), p, "die")
	require.Error(t, err)
	require.Eventually(
		t,
		func() bool { now := p.PID(); return now != 0 && now != pid },
		15*time.Second,
		20*time.Millisecond,
		"it is kept warm: nobody has to wait for a start",
	)
}
