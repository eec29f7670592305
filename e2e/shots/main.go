// Command shots takes the pictures in docs/screenshots from a running demo.
package main

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"bouncer/e2e/browser"
)

var pages = []struct{ name, path, theme, before string }{
	{"overview", "/", "light", ""},
	{"health", "/health", "light", ""},
	{"incident", "/health", "light", `[...document.querySelectorAll('a.mono')].find(a => a.textContent.includes('token-expired')).click()`},
	{"servers", "/servers", "light", ""},
	{"server", "/servers/harbour-radio", "light", ""},
	{
		"tape", "/servers/sailings", "dark",
		`document.querySelector('details.tape summary').click(); document.querySelector('details.tape').scrollIntoView()`,
	},
	{"agents", "/agents", "light", ""},
	{"agent", "/agents/marit-quill", "light", ""},
	{"rules", "/rules", "dark", ""},
	{"reach", "/reach", "light", ""},
	{"explain", "/reach", "dark", `document.querySelector('button.cell[aria-label*="joss-quill, order_fuel"]').click()`},
	{"held", "/held", "light", ""},
	{"review", "/review", "light", ""},
	{
		"try", "/try?agent=marit-quill&server=sailings&tool=sailing_status", "light",
		`const field = document.querySelector('input[aria-label=sailing]'); field.value = 'SF203'; field.dispatchEvent(new Event('input'));
			setTimeout(() => document.querySelector('form button[type=submit]').click(), 300)`,
	},
	{"journal", "/journal", "light", ""},
	{"statistics", "/statistics", "light", ""},
	{"changes", "/changes", "light", ""},
	{"service", "/service", "dark", ""},
}

func main() {
	base := flag.String("base", "http://127.0.0.1:4680", "base URL of the demo")
	out := flag.String("out", "docs/screenshots", "where the pictures go")
	only := flag.String("only", "", "names of pictures, separated by commas")
	theme := flag.String("theme", "", "light or dark for all")
	person := flag.String("person", "marit", "who looks")
	flag.Parse()
	if err := run(*base, *out, *only, *theme, *person); err != nil {
		fmt.Fprintln(os.Stderr, "shots:", err)
		os.Exit(1)
	}
}

func run(base, out, only, theme, person string) error {
	b, err := browser.Open(context.Background())
	if err != nil {
		return err
	}
	defer b.Close()
	if err := os.MkdirAll(out, 0o755); err != nil {
		return err
	}
	signedIn := false
	for _, p := range pages {
		if only != "" && !strings.Contains(","+only+",", ","+p.name+",") {
			continue
		}
		if !signedIn {
			err := errors.Join(
				b.Go(base),
				b.Type("input[name=name]", person),
				b.Type("input[name=password]", "seven-tides-turning\r"),
				b.Wait("!!document.querySelector('nav.rail')"),
			)
			if err != nil {
				return err
			}
			signedIn = true
		}
		if theme != "" {
			p.theme = theme
		}
		if err := b.Go(base + p.path); err != nil {
			return fmt.Errorf("%s: open: %w", p.name, err)
		}
		if _, err := browser.Eval[any](b, fmt.Sprintf("localStorage.setItem('bouncer-theme', %q)", p.theme)); err != nil {
			return fmt.Errorf("%s: theme: %w", p.name, err)
		}
		if err := b.Go(base + p.path); err != nil {
			return err
		}
		time.Sleep(1200 * time.Millisecond) // for what moves to come to rest
		if p.before != "" {
			if _, err := browser.Eval[any](b, p.before); err != nil {
				return err
			}
			time.Sleep(900 * time.Millisecond)
		}
		png, err := b.Shot()
		if err != nil {
			return fmt.Errorf("%s: picture: %w", p.name, err)
		}
		if err := os.WriteFile(filepath.Join(out, p.name+".png"), png, 0o644); err != nil {
			return err
		}
	}
	return nil
}
