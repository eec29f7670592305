package monitor_test

import (
	"encoding/json"
	"fmt"
	"net/http"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bouncer/internal/apitype"
	"bouncer/internal/core/report"
	"bouncer/internal/core/team"
	"bouncer/internal/testkit"
)

// Many servers are looked at side by side, whoever's credential it takes; progress is told
// to whoever knows the word, and a server that nobody has a credential for says so.
func TestServersAreLookedAtSideBySide(t *testing.T) {
	t.Parallel()
	w := testkit.Start(t, nil)
	echo := testkit.Echo("", nil)
	held := make(chan struct{})
	began := make(chan struct{}, 1)
	slow := testkit.Upstream(t, http.HandlerFunc(func(rw http.ResponseWriter, r *http.Request) {
		select {
		case began <- struct{}{}:
		default:
		}
		select {
		case <-held:
		case <-r.Context().Done():
			return
		}
		echo.ServeHTTP(rw, r)
	}))
	url := testkit.Upstream(t, echo)
	var all sync.WaitGroup
	reports := make([]report.Report, 100)
	begun := time.Now()
	for i := range reports {
		all.Go(func() {
			w.Must("POST", "/api/checkups", testkit.Obj{"target": testkit.Obj{"name": "x", "url": url}}, &reports[i])
		})
	}
	all.Wait()
	t.Logf("100 servers in %v", time.Since(begun))
	for _, r := range reports {
		assert.True(t, r.Healthy, "%+v", r.Findings)
	}

	done := make(chan report.Report, 1)
	go func() {
		var r report.Report
		w.Must("POST", "/api/checkups", testkit.Obj{"target": testkit.Obj{"name": "x", "url": slow}, "watch": "a-word-of-mine", "patienceSeconds": 60}, &r)
		done <- r
	}()
	<-began
	var p apitype.Progress
	require.Eventually(t, func() bool {
		w.Must("GET", "/api/checkups/a-word-of-mine", nil, &p)
		return p.Busy
	}, 20*time.Second, 5*time.Millisecond)
	assert.Equal(t, "http", p.Stage)
	w.Must("GET", "/api/checkups/another-word", nil, &p)
	close(held)
	assert.True(t, (<-done).Healthy)

	w.Must("POST", "/api/servers", testkit.Obj{"name": "crew", "url": url, "per": "person"}, nil)
	var r report.Report
	w.Must("POST", "/api/checkups", testkit.Obj{"server": "crew"}, &r)
	require.Len(t, r.Findings, 1)
	assert.Equal(t, "auth.value-cannot-be-read", string(r.Findings[0].Cause))
	w.Agent("marit-quill")
	w.Must("PUT", "/api/servers/crew/own", testkit.Obj{"value": "skf-own-token"}, nil)
	w.Must("POST", "/api/checkups", testkit.Obj{"server": "crew", "as": "marit-quill"}, &r)
	assert.True(t, r.Healthy, "%+v", r.Findings)
	joss := w.Person("joss", "Joss Penhale", team.Maintainer)
	assert.Equal(t, http.StatusForbidden, w.ProblemAs(joss, "POST", "/api/checkups", testkit.Obj{"server": "crew", "as": "marit-quill"}).Status,
		"nobody looks with somebody else's credential")

	for field, in := range map[string]testkit.Obj{
		"server":    {"server": "crew", "target": testkit.Obj{"name": "x", "url": url}},
		"url":       {"target": testkit.Obj{"name": "x"}},
		"transport": {"target": testkit.Obj{"name": "x", "url": url, "transport": "rest"}},
		"headers":   {"target": testkit.Obj{"name": "x", "url": url, "headers": []string{"no colon"}}},
		"env":       {"target": testkit.Obj{"name": "x", "command": "berths", "env": []string{"NOTHING"}}},
		"ca":        {"target": testkit.Obj{"name": "x", "url": url, "ca": "hello"}},
	} {
		assert.Equal(t, field, w.Problem("POST", "/api/checkups", in).Field, fmt.Sprint(in))
	}
}

// A server with an address is looked at now and then although nothing fails; a program is
// not, since that would start another one.
func TestServersAreLookedAtNowAndThen(t *testing.T) {
	t.Parallel()
	w := testkit.Start(t, map[string]string{"checkup-every": "50ms"})
	w.Register("radio", testkit.Upstream(t, testkit.Echo("", nil)), "")
	at := func() time.Time {
		var r report.Report
		_, raw := w.Do(w.Token, "GET", "/api/servers/radio/checkup", nil)
		_ = json.Unmarshal(raw, &r)
		return r.At
	}
	require.Eventually(t, func() bool { return !at().IsZero() }, 20*time.Second, 10*time.Millisecond)
	first := at()
	require.Eventually(t, func() bool { return at().After(first) }, 20*time.Second, 10*time.Millisecond)
}
