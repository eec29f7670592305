package cli

import (
	"context"
	"flag"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"time"

	"bouncer/internal/assistants/enrol"
	"bouncer/internal/bridge"
	"bouncer/internal/core/span"
)

func bridgeCommands() []command {
	var address, server, passFile string
	patience := 15 * time.Second
	return []command{{
		noun: "bridge", local: true, short: "Stand in as a local server for an assistant that can only start a command",
		long: `The assistant starts this command and speaks with it over standard input and output;
it relays to the service, and goes on when the service was restarted. The pass comes
from a file or from BOUNCER_PASS, never from an argument.`,
		example: "bouncer bridge --pass-file ~/.bouncer-pass",
		flags: func(f *flag.FlagSet) {
			f.StringVar(&address, "address", "", "base `URL` of the service; else BOUNCER_ADDRESS, else that of the last login")
			f.StringVar(&server, "server", "", "only this server, by `name`; all within reach, if left out")
			f.StringVar(&passFile, "pass-file", "", "`file` that holds the pass; else BOUNCER_PASS")
			f.Var(span.Value{To: &patience}, "patience", "how `long` a request waits for a service that cannot be reached")
		},
		run: func(ctx context.Context, t *task) error {
			base, err := t.bridgeAddress(address)
			if err != nil {
				return err
			}
			pass, err := t.bridgePass(passFile)
			if err != nil {
				return err
			}
			endpoint := strings.TrimRight(base, "/") + "/mcp"
			if server != "" {
				endpoint += "/" + seg(server)
			}
			waits := func(what string) { fmt.Fprintln(t.Err, "bouncer bridge: "+what) }
			return bridge.New(t.Out, bridge.Options{URL: endpoint, Pass: pass, Waits: waits, Patience: patience}).Run(ctx, t.In)
		},
	}}
}

// bridgeAddress is where the bridge goes: where somebody said, and nowhere else.
func (t *task) bridgeAddress(address string) (string, error) {
	l, err := t.readLogin()
	if err != nil {
		return "", err
	}
	for _, a := range []string{t.Getenv("BOUNCER_ADDRESS"), l.Address} {
		if address == "" {
			address = a
		}
	}
	if address == "" {
		return "", &usageError{"nobody has said where the service is", "give --address, set BOUNCER_ADDRESS, or sign in with bouncer login"}
	}
	if u, err := url.Parse(address); err != nil || u.Host == "" || (u.Scheme != "http" && u.Scheme != "https") {
		return "", &usageError{fmt.Sprintf("the address %q is no base URL", address), "it looks like " + defaultAddress}
	}
	return address, nil
}

// bridgePass is what the bridge shows: from a file, from the environment, or, when this
// person has enrolled just one assistant with a bridge, that one's.
func (t *task) bridgePass(file string) (string, error) {
	pass := t.Getenv("BOUNCER_PASS")
	if file == "" && pass == "" {
		kept, err := filepath.Glob(filepath.Join(t.ConfigDir, "passes", "*"))
		if err == nil && len(kept) == 1 {
			file = kept[0]
		}
	}
	if file != "" {
		raw, err := os.ReadFile(file)
		if err != nil {
			return "", told2(file, &enrol.FileError{Path: file, Err: err})
		}
		pass = string(raw)
	}
	if pass = strings.TrimSpace(pass); pass == "" {
		return "", &usageError{"there is no pass", "give --pass-file, or set BOUNCER_PASS; bouncer agent pass makes one"}
	}
	return pass, nil
}
