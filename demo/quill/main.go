// Command quill runs the stand-in assistant Quill with a configuration file.
package main

import (
	"context"
	"flag"
	"fmt"
	"os"
	"os/signal"

	"bouncer/standin/quill"
)

func main() {
	config := flag.String("config", "", "configuration `file` with a map mcpServers")
	script := flag.String("script", "", "`file` with one call a line, like {\"tool\":\"sailings__find_sailings\",\"arguments\":{}}")
	flag.Parse()
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt)
	defer stop()
	os.Exit(run(ctx, *config, *script))
}

func run(ctx context.Context, config, script string) int {
	if config == "" {
		fmt.Fprintln(os.Stderr, "quill: the flag --config is missing")
		return 2
	}
	steps := quill.DefaultScript
	if script != "" {
		var err error
		if steps, err = quill.ReadScript(script); err != nil {
			fmt.Fprintln(os.Stderr, "quill:", err)
			return 1
		}
	}
	if _, err := quill.Run(ctx, config, steps, os.Stdout); err != nil {
		fmt.Fprintln(os.Stderr, "quill:", err)
		return 1
	}
	return 0
}
