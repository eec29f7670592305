// Package parlour is a stand-in for the chat client Parlour: it reads its configuration
// file (YAML with a list of connections) and works as Quill does from there on.
package parlour

import (
	"errors"
	"fmt"
	"os"
	"strings"

	"go.yaml.in/yaml/v3"

	"bouncer/standin/quill"
)

// Load reads the configuration and returns an assistant for each connection.
func Load(path string) ([]*quill.Assistant, error) {
	raw, err := os.ReadFile(path)
	if err != nil {
		return nil, err
	}
	var conf struct {
		Connections []struct {
			Name     string   `yaml:"name"`
			Endpoint string   `yaml:"endpoint"`
			Headers  []string `yaml:"headers"`
			Active   *bool    `yaml:"active"`
		} `yaml:"connections"`
	}
	if err := yaml.Unmarshal(raw, &conf); err != nil {
		return nil, fmt.Errorf("%s: %w", path, err)
	}
	var out []*quill.Assistant
	for _, c := range conf.Connections {
		if c.Endpoint == "" || (c.Active != nil && !*c.Active) {
			continue
		}
		headers := map[string]string{}
		for _, h := range c.Headers {
			name, value, _ := strings.Cut(h, ":")
			headers[strings.TrimSpace(name)] = strings.TrimSpace(value)
		}
		out = append(out, quill.New(c.Name, c.Endpoint, headers, "parlour", "2.3"))
	}
	if len(out) == 0 {
		return nil, errors.New(path + ": no connection with an endpoint")
	}
	return out, nil
}
