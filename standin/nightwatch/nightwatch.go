// Package nightwatch is a stand-in for the unattended automation of the night watch: it
// reads its configuration file (TOML with a table for each server) and works as Quill
// does from there on.
package nightwatch

import (
	"errors"
	"fmt"
	"os"
	"sort"

	"github.com/pelletier/go-toml/v2"

	"bouncer/standin/quill"
)

// Load reads the configuration and returns an assistant for each server at an address.
func Load(path string) ([]*quill.Assistant, error) {
	raw, err := os.ReadFile(path)
	if err != nil {
		return nil, err
	}
	var conf struct {
		Tools struct {
			Servers map[string]struct {
				Kind    string            `toml:"kind"`
				Address string            `toml:"address"`
				Headers map[string]string `toml:"http_headers"`
			} `toml:"servers"`
		} `toml:"tools"`
	}
	if err := toml.Unmarshal(raw, &conf); err != nil {
		return nil, fmt.Errorf("%s: %w", path, err)
	}
	var out []*quill.Assistant
	for name, s := range conf.Tools.Servers {
		if s.Kind == "remote" && s.Address != "" {
			out = append(out, quill.New(name, s.Address, s.Headers, "night-watch", "0.9"))
		}
	}
	sort.Slice(out, func(i, j int) bool { return out[i].Name() < out[j].Name() })
	if len(out) == 0 {
		return nil, errors.New(path + ": no server with an address in tools.servers")
	}
	return out, nil
}
