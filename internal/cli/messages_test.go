package cli

import (
	"flag"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bouncer/internal/testkit"
	"bouncer/standin/ferries"
)

// Whatever a message, a page of the console or a document tells people to type
// exists: the noun, the verb and every flag.
func TestWhatIsNamedCanBeTyped(t *testing.T) {
	t.Parallel()
	flags := map[string]map[string]bool{}
	nouns := map[string]bool{}
	for _, c := range commands() {
		set := flag.NewFlagSet(c.name(), flag.ContinueOnError)
		if c.flags != nil {
			c.flags(set)
		}
		known := map[string]bool{"json": true, "address": true}
		set.VisitAll(func(f *flag.Flag) { known[f.Name] = true })
		flags[c.name()], nouns[c.noun] = known, true
	}
	named := regexp.MustCompile(`\bbouncer ([a-z]+)((?: [^\s"'` + "`" + `;,()<|]+)*)`)
	verb := regexp.MustCompile(`^(-.*|[a-z][a-z-]+)$`)
	option := regexp.MustCompile(`^--([a-z-]+)`)
	seen := 0
	check := func(path string) {
		raw, err := os.ReadFile(path)
		require.NoError(t, err)
		for _, m := range named.FindAllStringSubmatch(string(raw), -1) {
			if !nouns[m[1]] {
				continue // prose: "bouncer" is a word as well
			}
			words := strings.Fields(m[2])
			name := m[1]
			if len(words) > 0 && flags[name+" "+words[0]] != nil {
				name, words = name+" "+words[0], words[1:]
			}
			if flags[name] == nil {
				if len(words) > 0 && verb.MatchString(words[0]) {
					assert.Fail(t, "no such command", "%s: %s", path, m[0])
				}
				continue
			}
			seen++
			for _, w := range words {
				if w == "--" {
					break
				}
				if f := option.FindStringSubmatch(w); f != nil && f[1] != "help" {
					assert.True(t, flags[name][f[1]], "%s: %s has no flag --%s: %s", path, name, f[1], m[0])
				}
			}
		}
	}
	root := filepath.Join("..", "..")
	for _, dir := range []string{"internal", "console/src", "docs", "README.md", "SECURITY.md"} {
		require.NoError(t, filepath.WalkDir(filepath.Join(root, dir), func(path string, d fs.DirEntry, err error) error {
			if err != nil || d.IsDir() || strings.HasSuffix(path, "_test.go") {
				return err
			}
			switch filepath.Ext(path) {
			case ".go", ".vue", ".js", ".ts", ".md", ".yaml":
				check(path)
			}
			return nil
		}))
	}
	assert.Greater(t, seen, 100, "the messages were found")
}

// What the refusals of a name, of an authorization server and of a sign-in tell
// people to type does what they say.
func TestConfirmingFromTheCommandLine(t *testing.T) {
	t.Parallel()
	d := sit(t)
	up := testkit.Upstream(t, ferries.Sailings(ferries.SailingsToken))
	d.w.Register("sailings", up, ferries.SailingsToken)
	d.ok("", "rule", "add", "admit", "--agent", "ops-*", "--server", "sailings", "--tool", "*", "--anyway")
	ottilie := d.w.Person("ottilie", "Ottilie Brandt", "member")
	d.w.MustAs(ottilie, "POST", "/api/agents", testkit.Obj{"name": "ops-parlour", "kind": "parlour", "owner": "ottilie"}, nil)
	assert.Regexp(t, `ops-parlour .*name not confirmed`, d.ok("", "agent", "list"))
	assert.Contains(t, d.ok("", "agent", "reach", "ops-parlour"), "bouncer agent confirm ops-parlour")
	assert.Contains(t, d.ok("", "agent", "confirm", "ops-parlour"), "is confirmed")
	assert.Regexp(t, `find_sailings +yes`, d.ok("", "agent", "reach", "ops-parlour"))
	assert.Contains(t, d.ok("", "rule", "update", "admit-all-on-sailings-for-ops", "--tool", "find_*"),
		"matches 1 of 3 tools of sailings, for every agent")
	assert.Regexp(t, `admit-all-on-sailings-for-ops +admit +ops-\* +sailings +find_\* +1 of 3 tools`, d.ok("", "rule", "list"))
	assert.Contains(t, d.ok("", "agent", "update", "ops-parlour", "--team"), "belongs to the team")
	assert.Contains(t, d.ok("", "agent", "update", "ops-parlour", "--owner", "ottilie"), "belongs to ottilie")
	assert.Regexp(t, `agents +ops-parlour`, d.ok("", "person", "show", "ottilie"))
	code, _, errs := d.run(t.Context(), "", "person", "remove", "ottilie", "--yes")
	assert.Equal(t, exitFailure, code)
	assert.Contains(t, errs, "still owns agents")
	assert.Contains(t, d.ok("", "agent", "remove", "ops-parlour", "--yes"), "is removed")
	assert.Contains(t, d.ok("", "rule", "remove", "admit-all-on-sailings-for-ops"), "is removed")
	assert.Contains(t, d.ok("", "person", "remove", "ottilie", "--yes"), "ottilie is removed")
	assert.Contains(t, d.ok("", "server", "update", "sailings", "--take-issuer"), "sailings is updated")
	limits := d.ok("", "limits")
	assert.Regexp(t, `sessions +\d+ +\S+ +50000 `, limits)
	assert.Contains(t, limits, "256.0 MiB")
	state := d.ok("", "journal", "state")
	assert.Contains(t, state, "calls are recorded")
	assert.Contains(t, state, "0 calls since the start ran and could not be recorded")
}
