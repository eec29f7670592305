package faults

import (
	"encoding/json"
	"flag"
	"fmt"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sync/errgroup"

	"bouncer/internal/core/diagnosis"
	"bouncer/internal/diagnose/checkup"
)

func TestMain(m *testing.M) {
	if Play() {
		return
	}
	os.Exit(m.Run())
}

// patience is how long answers are waited for here; faults that are told only then take
// no longer than it.
const patience = 5 * time.Second

func examine(t *testing.T, f Fault) (string, time.Duration, string) {
	t.Helper()
	self, err := os.Executable()
	if !assert.NoError(t, err) {
		return "", 0, ""
	}
	s := &Stage{Dir: t.TempDir(), Self: self}
	defer s.End()
	c := f.Start(s)
	target, err := checkup.Describe(c.Registration)
	if !assert.NoError(t, err, f.Name) {
		return "", 0, ""
	}
	if c.Client != nil {
		target.Client = &checkup.Client{
			ID: c.Client.ID, Secret: c.Client.Secret, RefreshToken: c.Client.RefreshToken, Issuer: c.Client.Issuer, Machine: c.Client.Machine,
			Redirect: "http://127.0.0.1:4600/sign-in/callback",
		}
	}
	if c.Tool != "" {
		target.Call = &checkup.Call{Tool: c.Tool, Arguments: []byte(c.Arguments), Times: c.Times}
	}
	began := time.Now()
	r, err := checkup.Run(t.Context(), target, checkup.Options{Version: "test", Patience: patience})
	took := time.Since(began)
	if !assert.NoError(t, err, f.Name) {
		return "", took, ""
	}
	raw, err := json.MarshalIndent(r, "", "  ")
	assert.NoError(t, err, f.Name)
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
	Fault
	got  string
	took time.Duration
	raw  string
}

// together examines many at a time: most of them wait.
func together(t *testing.T, list []Fault) []outcome {
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
	all := together(t, All())
	for _, o := range all {
		if assert.Equal(t, o.Cause, o.got, "%s\n%s", o.Name, o.raw) {
			right++
		}
	}
	if *update {
		tabulate(t, all)
	}
	t.Logf("%d of %d named right", right, len(all))
}

var update = flag.Bool("update", false, "write the table of causes")

const table = "../../docs/causes.md"

// tabulate writes the table of causes: what each means, and how it was found.
func tabulate(t *testing.T, all []outcome) {
	t.Helper()
	variants, right, slowest := map[diagnosis.Cause]int{}, map[diagnosis.Cause]int{}, map[diagnosis.Cause]time.Duration{}
	for _, o := range all {
		c := diagnosis.Cause(o.Cause)
		variants[c]++
		slowest[c] = max(slowest[c], o.took)
		if o.got == o.Cause {
			right[c]++
		}
	}
	var b strings.Builder
	b.WriteString("# What a checkup can find\n\nThe code is `layer.cause`. Found: of how many ways to have it, played by stand-ins, how many are named right; slowest: " +
		"of those, with answers waited for " + patience.String() + ". A dash: it is found by connections, by `bouncer why`, or not played.\n\n" +
		"| cause | what it means | who acts | found | slowest |\n| --- | --- | --- | --- | --- |\n")
	for _, k := range diagnosis.Catalog() {
		found, slow := "–", "–"
		if n := variants[k.Cause]; n > 0 {
			found, slow = fmt.Sprintf("%d of %d", right[k.Cause], n), fmt.Sprintf("%.1f s", slowest[k.Cause].Seconds())
		}
		fmt.Fprintf(&b, "| `%s` | %s | %s | %s | %s |\n", k.Cause, k.Means, k.Who, found, slow)
	}
	fmt.Fprintf(&b, "\nNo cause is found for %d servers that are well and look odd.\n", len(Healthy()))
	require.NoError(t, os.WriteFile(table, []byte(b.String()), 0o644))
}

// The table names every cause, as it is.
func TestTheTableOfCausesIsUpToDate(t *testing.T) {
	t.Parallel()
	raw, err := os.ReadFile(table)
	require.NoError(t, err)
	codes := map[diagnosis.Cause]bool{}
	for _, k := range diagnosis.Catalog() {
		assert.False(t, codes[k.Cause], "%s is there twice", k.Cause)
		codes[k.Cause] = true
		assert.Contains(t, string(raw), fmt.Sprintf("| `%s` | %s | %s |", k.Cause, k.Means, k.Who), "run the test with -update")
	}
	for _, f := range All() {
		assert.True(t, codes[diagnosis.Cause(f.Cause)], "%s has no cause that there is: %s", f.Name, f.Cause)
	}
}

// Nothing is found about servers that are well, however odd they look.
func TestHealthyServersAreCalledHealthy(t *testing.T) {
	t.Parallel()
	for _, o := range together(t, Healthy()) {
		assert.Empty(t, o.got, "%s\n%s", o.Name, o.raw)
	}
}
