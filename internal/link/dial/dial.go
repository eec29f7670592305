// Package dial chooses the transport for a registered server. It is the only
// package that knows the four of them.
package dial

import (
	"context"
	"errors"
	"net/http"
	"strings"
	"time"

	"bouncer/internal/core/restmap"
	"bouncer/internal/core/team"
	"bouncer/internal/link"
	"bouncer/internal/link/internal/httpx"
	"bouncer/internal/link/rest"
	"bouncer/internal/link/sse"
	"bouncer/internal/link/stdio"
	"bouncer/internal/link/streamable"
	"bouncer/internal/spawn"
)

// New prepares the conversation with a server as it is registered; nothing is sent
// yet. The error is a *team.FieldError.
func New(s team.Server, c link.Credential, o link.Options) (link.Transport, error) {
	if s.MessageMiB > 0 {
		o.MessageLimit = s.MessageMiB << 20
	}
	if s.StartSeconds > 0 {
		o.SetupTimeout = time.Duration(s.StartSeconds) * time.Second
	}
	switch s.Transport {
	case team.Stdio:
		return stdio.New(command(s, c), o), nil
	case team.REST:
		doc, err := restmap.Parse([]byte(s.Document))
		if err != nil {
			return nil, &team.FieldError{Field: "document", Why: "cannot be used: " + err.Error()}
		}
		var picks []restmap.Pick
		for _, operation := range s.Operations {
			picks = append(picks, restmap.Pick(operation))
		}
		conn, err := rest.New(target(s, c), s.SecretQuery, doc, picks, o)
		if err != nil {
			return nil, &team.FieldError{Field: "operations", Why: "cannot be used: " + err.Error()}
		}
		return conn, nil
	case team.EventStream:
		return sse.New(target(s, c), o), nil
	}
	return streamable.New(target(s, c), o), nil
}

// Environment returns the variables that the process of a server gets, and the files of
// secrets among them, which the caller removes when the process has ended.
func Environment(ctx context.Context, s team.Server, c link.Credential, spawner *spawn.Spawner) ([]string, *spawn.Secrets, error) {
	return stdio.Environment(ctx, command(s, c), spawner)
}

func command(s team.Server, c link.Credential) stdio.Command {
	out := stdio.Command{
		Server: s.Name, Command: s.Command, Args: s.Args, Dir: s.Dir, Env: map[string]string{}, SecretEnv: s.SecretEnv, Secret: c.Secret,
		Vars: c.Vars, Used: c.Used, Limits: stdio.Limits{MemoryMiB: s.MemoryMiB, OpenFiles: s.OpenFiles, Processes: s.Processes},
	}
	for _, e := range s.Env {
		name, value, _ := strings.Cut(e, "=")
		out.Env[name] = value
	}
	return out
}

func target(s team.Server, c link.Credential) httpx.Target {
	out := httpx.Target{
		Server: s.Name, URL: s.URL, Secret: c.Secret, SecretHeader: s.SecretHeader, CA: []byte(s.CA), Cert: []byte(s.ClientCert),
		ClientKey: c.ClientKey, Credentials: c.Live, Used: c.Used, Ends: c.Ends,
	}
	for _, header := range s.Headers {
		name, value, _ := strings.Cut(header, ":")
		out.Headers = append(out.Headers, [2]string{strings.TrimSpace(name), strings.TrimSpace(value)})
	}
	return out
}

// Challenge asks a server without any credential, and returns the header of its
// refusal; nil when it does not refuse, or cannot be reached.
func Challenge(ctx context.Context, s team.Server, o link.Options) http.Header {
	conn := streamable.New(target(s, link.Credential{}), o)
	defer conn.Close(ctx)
	_, err := conn.Open(ctx)
	var failure *link.Failure
	if errors.As(err, &failure) {
		return failure.Challenge
	}
	return nil
}
