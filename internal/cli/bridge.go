package cli

import (
	"context"
	"flag"
	"fmt"
	"net/url"
	"os"
	"strings"

	"bouncer/internal/bridge"
)

func bridgeCommands() []command {
	var address, server, passFile string
	return []command{{
		noun: "bridge", local: true, short: "Stand in as a local server for an assistant that can only start a command",
		long: `The assistant starts this command and speaks with it over standard input and output;
it relays to the service, and goes on when the service was restarted. The pass comes
from a file or from BOUNCER_PASS, never from an argument.`,
		example: "bouncer bridge --pass-file ~/.bouncer-pass",
		flags: func(f *flag.FlagSet) {
			f.StringVar(&address, "address", "", "base `URL` of the service; else BOUNCER_ADDRESS, else "+defaultAddress)
			f.StringVar(&server, "server", "", "only this server, by `name`; all within reach, if left out")
			f.StringVar(&passFile, "pass-file", "", "`file` that holds the pass; else BOUNCER_PASS")
		},
		run: func(ctx context.Context, t *task) error {
			pass := t.Getenv("BOUNCER_PASS")
			if passFile != "" {
				raw, err := os.ReadFile(passFile)
				if err != nil {
					return fileError(passFile, err)
				}
				pass = string(raw)
			}
			if pass = strings.TrimSpace(pass); pass == "" {
				return &usageError{"there is no pass", "give --pass-file, or set BOUNCER_PASS; bouncer agent pass makes one"}
			}
			for _, a := range []string{t.Getenv("BOUNCER_ADDRESS"), defaultAddress} {
				if address == "" {
					address = a
				}
			}
			if u, err := url.Parse(address); err != nil || u.Host == "" || (u.Scheme != "http" && u.Scheme != "https") {
				return &usageError{fmt.Sprintf("the address %q is no base URL", address), "it looks like " + defaultAddress}
			}
			endpoint := strings.TrimRight(address, "/") + "/mcp"
			if server != "" {
				endpoint += "/" + seg(server)
			}
			return bridge.New(t.Out, bridge.Options{URL: endpoint, Pass: pass}).Run(ctx, t.In)
		},
	}}
}
