package dialect

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bouncer/internal/core/configfile"
)

// Shapes that people have in their files: what is found, and how a new entry is written.
func TestShapesOfTheTrade(t *testing.T) {
	t.Parallel()
	for name, row := range map[string]struct {
		syntax        configfile.Syntax
		src           string
		servers, list string
		found, reads  string // of the entries; how a new one comes out
	}{
		"a map in a map of everything": {
			configfile.JSON,
			`{"editor.fontSize": 12, "mcp.servers": {"tides": {"type": "stdio", "command": "npx", "args": ["-y", "tides"]}}, "tasks": {"x": {"command": "make"}}}`,
			"mcp.servers", "", "tides=npx [-y tides]", `"type": "http"`,
		},
		"commands as lists, with words for both kinds": {
			configfile.JSON,
			`{"mcp": {"a": {"type": "local", "command": ["bun", "x", "tides"], "environment": {"KEY": "v"}, "enabled": true},
				"b": {"type": "remote", "url": "https://crew.example/mcp", "headers": {"X": "y"}, "enabled": false}}}`,
			"mcp", "", "a=bun [x tides] b=https://crew.example/mcp (off)", `"type": "remote"`,
		},
		"a command in a map of its own": {
			configfile.JSON,
			`{"theme": "x", "context_servers": {"tides": {"command": {"path": "npx", "args": ["tides"], "env": {"K": "v"}}, "settings": {}}}}`,
			"context_servers", "", "tides=npx [tides]", `"command": {`,
		},
		"a list with names": {
			configfile.YAML,
			"name: My assistant\nmodels:\n  - name: large\n    provider: some\nmcpServers:\n  - name: tides\n    command: uvx\n    args:\n      - tides\n    env:\n      KEY: v\n",
			"mcpServers", "name", "tides=uvx [tides]", "  - name: bouncer",
		},
		"extensions of several kinds": {
			configfile.YAML,
			"extensions:\n  developer:\n    bundled: true\n    enabled: true\n    type: builtin\n  tides:\n    cmd: npx\n    args: [-y, tides]\n    envs: {}\n    enabled: true\n    type: stdio\n  crew:\n    uri: https://crew.example/sse\n    type: sse\n    enabled: true\n",
			"extensions", "", "tides=npx [-y tides] crew=https://crew.example/sse", "    uri: ",
		},
		"tables": {
			configfile.TOML,
			"model = \"large\"\n\n[mcp_servers.tides]\ncommand = \"npx\"\nargs = [\"-y\", \"tides\"]\n\n[mcp_servers.tides.env]\nKEY = \"v\"\n\n[mcp_servers.crew]\nurl = \"https://crew.example/mcp\"\nhttp_headers = { X = \"y\" }\n",
			"mcp_servers", "", "tides=npx [-y tides] crew=https://crew.example/mcp", "[mcp_servers.bouncer]\nurl = ",
		},
		"a transport inside, in a list": {
			configfile.JSON,
			`{"integrations": [{"id": "tides", "transport": {"type": "stdio", "command": "tides", "args": []}}, {"id": "crew", "transport": {"type": "http", "url": "https://crew.example/mcp"}}]}`,
			"integrations", "id", "tides=tides [] crew=https://crew.example/mcp", `"transport": {`,
		},
		"beside those of one project": {
			configfile.JSON,
			`{"projects": {"/home/marit/quay": {"mcpServers": {"a": {"command": "x", "args": ["y"]}}}}, "mcpServers": {"crew": {"type": "http", "url": "https://crew.example/mcp"}}}`,
			"mcpServers", "", "crew=https://crew.example/mcp", `"type": "http"`,
		},
		"beside the address of a model": {
			configfile.JSON,
			`{"mcp": {"a": {"command": ["bun", "tides"], "enabled": true}, "b": {"url": "https://crew.example/mcp"}}, "provider": {"local": {"npm": "x", "options": {"baseURL": "http://127.0.0.1:1234/v1"}}}}`,
			"mcp", "", "a=bun [tides] b=https://crew.example/mcp", `"bouncer": `,
		},
		"merged and anchored": {
			configfile.YAML,
			"defaults: &d\n  env:\n    LOG: info\ntools:\n  servers:\n    - id: tides\n      transport:\n        kind: stdio\n        exec: /usr/bin/tides\n        argv: [--stdio]\n        <<: *d\n    - id: crew\n      transport: {kind: http, endpoint: \"https://crew.example/mcp\"}\n",
			"tools.servers", "id", "tides=/usr/bin/tides [--stdio] crew=https://crew.example/mcp", "endpoint: ",
		},
		"a list on one line": {
			configfile.TOML, "[tools]\nmcp = [ { name = \"tides\", cmd = [\"tides\", \"--stdio\"] }, { name = \"crew\", uri = \"https://crew.example/mcp\" } ]\n",
			"tools.mcp", "name", "tides=tides [--stdio] crew=https://crew.example/mcp", "}, { name = \"bouncer\", uri = ",
		},
		"the top of the file": {
			configfile.JSON, `{"tides": {"command": "tides", "args": ["-v"]}, "crew": {"url": "https://crew.example/mcp"}}`,
			"the top of the file", "", "tides=tides [-v] crew=https://crew.example/mcp", `"bouncer": {`,
		},
	} {
		t.Run(name, func(t *testing.T) {
			f, err := configfile.Parse([]byte(row.src), row.syntax)
			require.NoError(t, err)
			learned := Learn(f, "learned")
			require.NotEmpty(t, learned)
			l := learned[0]
			assert.Equal(t, row.servers+" "+row.list, l.Dialect.Servers.String()+" "+l.Dialect.List)
			found := ""
			for _, e := range l.Entries {
				if e.URL == "" && e.Command == "" {
					continue
				}
				found += " " + e.Name + "=" + e.URL + e.Command
				if e.Command != "" {
					found += " " + fmt.Sprint(e.Args)
				}
				if e.Off {
					found += " (off)"
				}
			}
			assert.Equal(t, " "+row.found, found)
			o, err := l.Dialect.Write(Entry{Name: "bouncer", URL: "http://x/mcp", Headers: []Value{{"Authorization", "Bearer y"}}})
			require.NoError(t, err)
			out, err := f.Put(l.Dialect.At("bouncer"), o)
			require.NoError(t, err)
			assert.Contains(t, string(out), row.reads)
		})
	}
}
