package checkup

import (
	"encoding/json"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sync/errgroup"

	"bouncer/standin/faults"
)

func TestMain(m *testing.M) {
	if faults.Play() {
		return
	}
	os.Exit(m.Run())
}

// patience is how long answers are waited for here; faults that are told only then take
// no longer than it.
const patience = 5 * time.Second

func examine(t *testing.T, f faults.Fault) (string, time.Duration, string) {
	t.Helper()
	self, err := os.Executable()
	require.NoError(t, err)
	s := &faults.Stage{Dir: t.TempDir(), Self: self}
	defer s.End()
	c := f.Start(s)
	target, err := Describe(c.Registration)
	require.NoError(t, err)
	if c.Client != nil {
		target.Client = &Client{
			ID: c.Client.ID, Secret: c.Client.Secret, RefreshToken: c.Client.RefreshToken, Issuer: c.Client.Issuer, Machine: c.Client.Machine,
			Redirect: "http://127.0.0.1:4600/sign-in/callback",
		}
	}
	if c.Tool != "" {
		target.Call = &Call{Tool: c.Tool, Arguments: []byte(c.Arguments), Times: c.Times}
	}
	began := time.Now()
	r, err := Run(t.Context(), target, Options{Version: "test", Patience: patience})
	took := time.Since(began)
	require.NoError(t, err)
	raw, err := json.MarshalIndent(r, "", "  ")
	require.NoError(t, err)
	var causes []string
	for _, found := range r.Findings {
		causes = append(causes, string(found.Cause))
		assert.NotEmpty(t, found.Title, f.Name)
		assert.NotEmpty(t, found.Remedy, f.Name)
		assert.NotEmpty(t, found.Who, f.Name)
	}
	if c.Token != "" && len(c.Token) > 16 && !strings.ContainsAny(c.Token, "<${") {
		assert.NotContains(t, string(raw), strings.Trim(c.Token, "\" \u200b"), "%s: the credential is told", f.Name)
	}
	return strings.Join(causes, " "), took, string(raw)
}

// outcome is what came of one fault.
type outcome struct {
	faults.Fault
	got  string
	took time.Duration
	raw  string
}

// together examines many at a time: most of them wait.
func together(t *testing.T, list []faults.Fault) []outcome {
	t.Helper()
	out := make([]outcome, len(list))
	var group errgroup.Group
	group.SetLimit(40)
	for i, f := range list {
		group.Go(func() error {
			out[i].Fault = f
			out[i].got, out[i].took, out[i].raw = examine(t, f)
			return nil
		})
	}
	require.NoError(t, group.Wait())
	return out
}

// Every cause is named right, as the first and only finding.
func TestEveryFaultIsNamed(t *testing.T) {
	t.Parallel()
	right := 0
	all := together(t, faults.All())
	for _, o := range all {
		if assert.Equal(t, o.Cause, o.got, "%s\n%s", o.Name, o.raw) {
			right++
		}
	}
	for _, o := range all {
		if o.took > 6*time.Second {
			t.Log(o.Name, o.took)
		}
	}
	t.Logf("%d of %d named right", right, len(all))
}

// Nothing is found about servers that are well, however odd they look.
func TestHealthyServersAreCalledHealthy(t *testing.T) {
	t.Parallel()
	for _, o := range together(t, faults.Healthy()) {
		assert.Empty(t, o.got, "%s\n%s", o.Name, o.raw)
	}
}
