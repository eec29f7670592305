package cli

import (
	"context"
	"flag"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"bouncer/internal/app"
)

func manualCommands() []command {
	return []command{{
		noun: "manual", args: "DIRECTORY", local: true, short: "Write manual pages, one for each command, into a directory",
		example: "bouncer manual /usr/local/share/man/man1",
		run: func(_ context.Context, t *task) error {
			if err := os.MkdirAll(t.args[0], 0o755); err != nil {
				return &failure{exitFailure, "the directory cannot be made: " + pathCause(err), "choose another one"}
			}
			pages := manual()
			for name, text := range pages {
				if err := os.WriteFile(filepath.Join(t.args[0], name), []byte(text), 0o644); err != nil { //nolint:gosec // for everybody to read
					return &failure{exitFailure, "a page cannot be written: " + pathCause(err), "choose another directory"}
				}
			}
			return t.done("%d pages are in %s", len(pages), t.args[0])
		},
	}}
}

// manual are the manual pages (section 1) by their file names, made from the table.
func manual() map[string]string {
	pages := map[string]string{}
	var index strings.Builder
	head(&index, "bouncer", "stands between a team's assistants and its tool servers")
	index.WriteString(".SH SYNOPSIS\n.B bouncer\nNOUN VERB [flags]\n.SH COMMANDS\n")
	for _, c := range commands() {
		page := "bouncer-" + strings.ReplaceAll(c.name(), " ", "-")
		pages[page+".1"] = c.page(page)
		fmt.Fprintf(&index, ".TP\n.BR %s (1)\n%s\n", roff(page), roff(c.short))
	}
	index.WriteString(".SH EXIT STATUS\n0 done, 1 failed, 2 wrong command line, 3 not allowed, 4 not found, " +
		"5 the service cannot be reached, 6 a tool server cannot be reached\n")
	pages["bouncer.1"] = index.String()
	return pages
}

func head(b *strings.Builder, page, short string) {
	fmt.Fprintf(b, ".TH %s 1 \"\" \"bouncer %s\"\n", strings.ToUpper(roff(page)), roff(app.Version))
	fmt.Fprintf(b, ".SH NAME\n%s \\- %s\n", roff(page), roff(short))
}

// page is the manual page of one command.
func (c command) page(name string) string {
	var b strings.Builder
	head(&b, name, c.short)
	fmt.Fprintf(&b, ".SH SYNOPSIS\n.B bouncer %s\n%s [flags]", roff(c.name()), roff(c.args))
	if c.rest != "" {
		fmt.Fprintf(&b, " [\\-\\- %s]", roff(c.rest))
	}
	b.WriteString("\n")
	if c.long != "" {
		fmt.Fprintf(&b, ".SH DESCRIPTION\n%s\n", roff(c.long))
	}
	flags := false
	c.eachFlag(func(f *flag.Flag) {
		if !flags {
			b.WriteString(".SH OPTIONS\n")
		}
		flags = true
		kind, text := flag.UnquoteUsage(f)
		if f.DefValue != "" && f.DefValue != "false" {
			text += " (default " + f.DefValue + ")"
		}
		fmt.Fprintf(&b, ".TP\n.B \\-\\-%s\n%s\n", roff(strings.TrimSpace(f.Name+" "+kind)), roff(strings.TrimPrefix(text, kind+": ")))
	})
	fmt.Fprintf(&b, ".SH EXAMPLES\n.nf\n%s\n.fi\n.SH SEE ALSO\n.BR bouncer (1)\n", roff(c.example))
	return b.String()
}

// roff is a text in which nothing is taken for a request or an escape.
func roff(text string) string {
	text = strings.NewReplacer(`\`, `\e`, "-", `\-`, "'", `\(aq`).Replace(text)
	lines := strings.Split(text, "\n")
	for i, line := range lines {
		if strings.HasPrefix(line, ".") {
			lines[i] = `\&` + line
		}
	}
	return strings.Join(lines, "\n")
}
