package app

import (
	"errors"
	"go/build"
	"io/fs"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// mayImport is the dependency rule: what each package below internal may import
// of ours. "core" stands for every package of the core. A package without a line
// fails; a line names only what stands above it, so that nothing leads back.
//
// Three sides meet in it: the write side (registry and the nouns above it), the
// supply side (credential, upstream, link) and the hot path (relay). The write
// side and the hot path meet in the immutable snapshot only.
var mayImport = []struct{ pkg, deps string }{
	{"disk", ""},
	{"events", ""},
	{"gate", ""},
	{"origin", ""},
	{"throttle", ""},
	{"terminal", ""},
	{"token", ""},
	{"web", ""},
	{"held", "core"},
	{"control/presence", ""},
	{"apitype", "core"},
	{"bridge", "core"},
	{"egress", "core"},
	{"locker", "core"},
	{"spawn", "gate"},
	{"client", "apitype"},
	{"link", "core locker spawn"},
	{"store/schema/toblocks", "core"},
	{"store/schema", "store/schema/toblocks"},
	{"store/fault", ""},
	{"store", "core locker store/fault store/schema"},
	{"oauth", "core token egress locker"},
	{"cluster", "core"},
	{"cluster/ledger", "core store"},
	{"cluster/replica", "core store cluster cluster/ledger"},
	{"cluster/member", "core cluster"},
	{"cluster/envelope", "core"},
	{"cluster/peer", "core cluster cluster/envelope"},
	{"cluster/latest", ""},
	{"cluster/passage", "cluster/envelope gate"},
	{"cluster/placement", "core cluster cluster/passage gate link"},
	{"calls", "core store"},
	{"journal", "core store calls"},
	{"upkeep", "core store"},
	{"observe/stats", "core calls apitype store"},
	{"link/internal/base", "core link"},
	{"oidc", "core locker store oauth"},
	{"link/internal/mux", "core link link/internal/base"},
	{"link/internal/direct", ""},
	{"link/internal/httpx", "core locker link link/internal/base link/internal/direct"},
	{"credential", "core egress events locker link store oauth oidc"},
	{"link/streamable", "core link link/internal/base link/internal/httpx"},
	{"link/linktest", "core locker link link/internal/base link/internal/httpx"},
	{"link/rest", "core locker link link/internal/base link/internal/httpx"},
	{"link/sse", "core link link/internal/base link/internal/mux link/internal/httpx"},
	{"link/stdio", "core gate locker spawn link link/internal/base link/internal/mux"},
	{"link/dial", "core spawn link link/internal/httpx link/streamable link/rest link/sse link/stdio"},
	{"upstream", "core link link/dial"},
	{"snapshot", "core link upstream"},
	{"relay/tap", "link"},
	{"relay/session", "core gate link snapshot relay/tap"},
	{"relay/door", "core snapshot token"},
	{"relay/contact", "core"},
	{"relay/breaker", ""},
	{"registry", "core events apitype link store credential upstream snapshot"},
	{"relay/stream", "core relay/session"},
	{"people", "core apitype store registry"},
	{"cluster/heads", "core journal store"},
	{"cluster/nodes", "core apitype store registry cluster/member"},
	{"agents", "core token apitype store registry"},
	{"servers", "core apitype egress link store oauth credential link/dial upstream registry"},
	{"control/labels", "core apitype store registry"},
	{"control/approval", "core calls events gate held apitype store"},
	{"control/budget", "core gate apitype store registry"},
	{"observe/metrics", "core gate"},
	{"cluster/across", "core apitype cluster/peer journal observe/stats"},
	{"cluster/records", "core calls cluster/envelope"},
	{"cluster/live", "core cluster/peer journal"},
	{"cluster/node", "core observe/metrics credential gate locker store registry control/budget cluster cluster/across cluster/latest cluster/peer cluster/ledger cluster/replica cluster/member cluster/nodes cluster/heads journal calls cluster/records cluster/live cluster/placement"},
	{"control/policy", "core calls apitype store snapshot upstream registry agents"},
	{"control/review", "core apitype store upstream registry"},
	{"control/finder", "core snapshot registry"},
	{"control/notice", "core apitype"},
	{"mail", ""},
	{"control/notify", "core apitype store mail"},
	{"control/cost", "core calls apitype store snapshot registry agents"},
	{"control/history", "core apitype store snapshot registry agents"},
	{"control/rehearse", "core calls apitype store snapshot registry control/policy"},
	{"assistants/machine", "core throttle token apitype store registry agents"},
	{"assistants/roster", "core apitype store registry people servers control/policy"},
	{"changes", "core apitype store people agents servers control/labels control/budget control/policy control/review"},
	{"relay/consent", "core held"},
	{"relay/ticket", ""},
	{"relay/caller", "core gate relay/session snapshot"},
	{"relay/underway", ""},
	{"relay/carry", "core gate held link journal upstream snapshot relay/breaker relay/session relay/stream relay/consent relay/ticket relay/caller relay/underway"},
	{"secrets", "core apitype locker store credential upstream registry agents"},
	{"imports", "core apitype secrets servers"},
	{"assistants/adopt", "core"},
	{"assistants/takeover", "core apitype store agents servers secrets imports control/policy assistants/adopt"},
	{"diagnose/checkup/exam", "core locker spawn link"},
	{"diagnose/checkup/reach", "core egress link oauth diagnose/checkup/exam"},
	{"diagnose/checkup/launch", "core locker spawn link link/dial diagnose/checkup/exam"},
	{"diagnose/checkup", "core diagnose/checkup/exam diagnose/checkup/reach diagnose/checkup/launch"},
	{"diagnose/incident", "core apitype events journal store"},
	{"diagnose/monitor", "core gate apitype spawn store link upstream credential registry diagnose/checkup"},
	{"diagnose/recorder", "link"},
	{"diagnose/inside", "core"},
	{"diagnose/example", "core apitype store registry"},
	{"diagnose/tape", "core apitype link store diagnose/inside diagnose/recorder"},
	{"diagnose/tryout", "core gate apitype store registry agents diagnose/inside"},
	{"diagnose/why", "core apitype journal snapshot store registry agents control/policy"},
	{"login", "core gate throttle token apitype store oauth oidc registry people"},
	{"signin", "core apitype locker store oauth credential upstream registry agents"},
	{"relay", "core gate held origin link journal upstream snapshot relay/door relay/contact relay/session relay/stream relay/carry relay/tap"},
	{"authserver", "core throttle token apitype store oauth registry agents control/policy"},
	{"api/openapi", ""},
	{"api/reading", "core"},
	{"api/problem", "core apitype login oauth"},
	{"api/programs", "core apitype oauth authserver"},
	{"api", "core cluster/nodes api/openapi api/reading api/problem api/programs upkeep observe/stats diagnose/example diagnose/tape diagnose/tryout diagnose/why diagnose/incident diagnose/monitor gate origin token apitype oauth journal registry people agents servers control/labels control/approval control/budget control/policy control/review control/notice control/notify control/cost control/history control/rehearse changes secrets imports login signin authserver assistants/machine assistants/roster assistants/takeover"},
	{"observe/traces", "core"},
	{"app", "core store/schema cluster cluster/node calls upkeep observe/stats observe/metrics observe/traces relay/carry diagnose/example diagnose/recorder diagnose/tape diagnose/tryout diagnose/why diagnose/incident diagnose/monitor disk events gate origin throttle web apitype egress locker spawn link store oauth journal oidc credential link/dial upstream registry people agents servers control/presence control/labels control/approval control/budget control/policy control/review control/notice control/notify mail control/cost control/finder control/history control/rehearse changes secrets imports login signin snapshot relay authserver assistants/machine assistants/roster assistants/takeover api"},
	{"testkit", "core store apitype login app"},
	{"assistants/enrol", "core"},
	{"heap", ""},
	{"cli", "core heap locker upkeep diagnose/checkup diagnose/tape held apitype assistants/adopt assistants/enrol bridge client gate terminal app"},
}

// coreImports are the imports inside of the core.
var coreImports = map[string]string{
	"access":      "team",
	"budget":      "rules",
	"cost":        "",
	"diagnosis":   "evidence",
	"configfile":  "",
	"dialect":     "configfile",
	"endpoint":    "team",
	"evidence":    "diagnosis report wire",
	"feed":        "team",
	"mask":        "",
	"narrowing":   "",
	"near":        "",
	"histogram":   "",
	"lint":        "cost review tools",
	"looks":       "",
	"quiet":       "team",
	"paste":       "configfile dialect looks",
	"restmap":     "tools uri",
	"review":      "tools",
	"rules":       "narrowing near",
	"roster":      "budget dialect rules team",
	"span":        "",
	"segment":     "rules team",
	"serverspec":  "endpoint looks restmap team",
	"team":        "budget diagnosis rules",
	"tools":       "uri wire",
	"trace":       "",
	"uri":         "",
	"pack":        "",
	"replication": "pack",
	"refusal":     "diagnosis evidence",
	"report":      "diagnosis",
	"verdict":     "diagnosis evidence refusal report wire",
	"wire":        "",
}

// The SDKs of the protocol are peers in tests and never part of the product.
func TestPackagesKeepTheDependencyRule(t *testing.T) {
	root, err := filepath.Abs("../..")
	require.NoError(t, err)
	allowed := map[string][]string{}
	known := []string{"core"}
	for _, row := range mayImport {
		deps := strings.Fields(row.deps)
		for _, dep := range deps {
			assert.Contains(t, known, dep, "%s names %s, which does not stand above it", row.pkg, dep)
		}
		allowed[row.pkg], known = deps, append(known, row.pkg)
	}
	seen := []string{}
	for _, top := range []string{"internal", "standin", "demo", "bench", "cmd"} {
		err := filepath.WalkDir(filepath.Join(root, top), func(path string, d fs.DirEntry, err error) error {
			if err != nil || !d.IsDir() || d.Name() == "dist" || d.Name() == "testdata" {
				return err
			}
			p, err := build.ImportDir(path, 0)
			if none := (*build.NoGoError)(nil); errors.As(err, &none) {
				return nil
			}
			require.NoError(t, err)
			dir, err := filepath.Rel(root, path)
			require.NoError(t, err)
			pkg := strings.TrimPrefix(dir, "internal/")
			for _, dep := range p.Imports {
				// The benchmarks measure what a pass-through built of the SDK costs.
				assert.False(t, strings.Contains(dep, "modelcontextprotocol") && pkg != "bench", "%s imports %s", pkg, dep)
				own, ours := strings.CutPrefix(dep, "bouncer/internal/")
				switch {
				case strings.HasPrefix(dep, "bouncer/standin/"):
					assert.Regexp(t, `^(demo|bench|standin|testkit|link/linktest)\b`, pkg, "%s imports %s", pkg, dep)
				case !ours || top != "internal":
				case strings.HasPrefix(pkg, "core/"):
					rest, ok := strings.CutPrefix(own, "core/")
					assert.True(t, ok && slices.Contains(strings.Fields(coreImports[strings.TrimPrefix(pkg, "core/")]), rest), "%s imports %s", pkg, own)
				case strings.HasPrefix(own, "core/"):
					assert.Contains(t, allowed[pkg], "core", "%s imports %s", pkg, own)
				default:
					assert.Contains(t, allowed[pkg], own, "%s imports %s", pkg, own)
				}
			}
			if top == "internal" {
				seen = append(seen, pkg)
			}
			return nil
		})
		require.NoError(t, err)
	}
	for _, pkg := range seen {
		if name, core := strings.CutPrefix(pkg, "core/"); core {
			assert.Contains(t, coreImports, name, "%s has no line in the rule", pkg)
		} else {
			assert.Contains(t, allowed, pkg, "%s has no line in the rule", pkg)
		}
	}
	for pkg := range allowed {
		assert.DirExists(t, filepath.Join(root, "internal", pkg), "the rule has a line for a package that is gone")
	}
}
