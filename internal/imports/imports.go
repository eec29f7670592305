// Package imports registers servers from what people paste: package paste reads it,
// what looks like a secret goes to the locker, and each server is registered as a whole
// or not at all.
package imports

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"bouncer/internal/apitype"
	"bouncer/internal/core/looks"
	"bouncer/internal/core/paste"
	"bouncer/internal/core/serverspec"
	"bouncer/internal/core/team"
	"bouncer/internal/secrets"
	"bouncer/internal/servers"
)

// Service imports servers. It is safe for concurrent use.
type Service struct {
	servers *servers.Service
	secrets *secrets.Service
}

// New returns the service.
func New(s *servers.Service, k *secrets.Service) *Service { return &Service{s, k} }

// hidden stands for a secret in what is told.
const hidden = "(secret)"

// Import reads what was pasted, and, if that is wanted, registers what was read. What is
// wrong with one server is told with it, and the others go on. The error is a
// *team.FieldError for a text that holds no server.
func (svc *Service) Import(ctx context.Context, by team.Person, in apitype.Import) (apitype.Imported, error) {
	out := apitype.Imported{Servers: []apitype.ImportedServer{}}
	list, notes, err := paste.Read(in.Text)
	if err != nil {
		return out, &team.FieldError{Field: "text", Why: "cannot be used: " + err.Error()}
	}
	out.Notes = notes
	for _, s := range list {
		if len(in.Only) > 0 && !slices.Contains(in.Only, s.Name) {
			continue
		}
		one := apitype.ImportedServer{Server: shown(s)}
		if in.Apply {
			one.Registered, one.Err = svc.register(ctx, by, s, in)
		}
		out.Servers = append(out.Servers, one)
	}
	return out, nil
}

// shown is a server without its secrets.
func shown(s paste.Server) paste.Server {
	hide := func(list []paste.Value) (out []paste.Value) {
		for _, v := range list {
			if v.Secret != "" {
				v.Value = hidden
			}
			out = append(out, v)
		}
		return out
	}
	s.Env, s.Headers, s.Query = hide(s.Env), hide(s.Headers), hide(s.Query)
	return s
}

// carried is a secret of a server, and where it goes.
type carried struct {
	place team.Place
	value string
	kind  string
}

// register registers one server with its secrets, or nothing of it.
func (svc *Service) register(ctx context.Context, by team.Person, s paste.Server, in apitype.Import) (*apitype.ServerInfo, error) {
	r := serverspec.Registration{
		Name: s.Name, Command: s.Command, Args: s.Args, Dir: s.Dir, URL: s.URL, Transport: s.Transport, Anyway: in.Anyway, Plain: in.Plain,
	}
	var sealed []carried
	for _, list := range []struct {
		how    string
		values []paste.Value
	}{{team.CarryVariable, s.Env}, {team.CarryHeader, s.Headers}, {team.CarryQuery, s.Query}} {
		for _, v := range list.values {
			value, err := answered(s.Name, v, in.Answers)
			if err != nil {
				return nil, err
			}
			bare, scheme := value, ""
			if first, rest, ok := strings.Cut(value, " "); ok && list.how == team.CarryHeader && !strings.Contains(rest, " ") {
				bare, scheme = rest, first
			}
			switch {
			case looks.Secret(v.Name, bare) != "" || list.how == team.CarryQuery:
				sealed = append(sealed, carried{team.Place{How: list.how, Name: v.Name, Scheme: scheme}, bare, kindOf(list.how)})
			case list.how == team.CarryVariable:
				r.Env = append(r.Env, v.Name+"="+value)
			default:
				r.Headers = append(r.Headers, v.Name+": "+value)
			}
		}
	}
	var added []string
	if !ownToken(&r, sealed) {
		var err error
		if added, err = svc.seal(ctx, by, &r, sealed); err != nil {
			return nil, errors.Join(err, svc.undo(ctx, by, added))
		}
	}
	info, err := svc.servers.Register(ctx, by, r)
	if err != nil {
		return nil, errors.Join(err, svc.undo(ctx, by, added))
	}
	return &info, nil
}

// answered is the value of a variable, a header or a parameter: the one that was given
// for it, where it only stood for one.
func answered(server string, v paste.Value, answers map[string]string) (string, error) {
	for _, key := range []string{server + "/" + v.Name, v.Name} {
		if a, ok := answers[key]; ok {
			return a, nil
		}
	}
	if v.Asked {
		return "", &team.FieldError{Field: server + "/" + v.Name, Why: "has a placeholder only; give its value"}
	}
	return v.Value, nil
}

func kindOf(how string) string {
	if how == team.CarryVariable {
		return team.KindEnvironment
	}
	return team.KindValue
}

// ownToken gives a server its only secret as its token, where that is all there is.
func ownToken(r *serverspec.Registration, sealed []carried) bool {
	if len(sealed) != 1 {
		return len(sealed) == 0
	}
	c := sealed[0]
	switch {
	case c.place.How == team.CarryVariable:
		r.SecretEnv, r.Token = c.place.Name, c.value
	case c.place.How == team.CarryHeader && strings.EqualFold(c.place.Name, "Authorization") && strings.EqualFold(c.place.Scheme, "Bearer"):
		r.Token = c.value
	case c.place.How == team.CarryHeader && c.place.Scheme == "":
		r.SecretHeader, r.Token = c.place.Name, c.value
	default:
		return false
	}
	return true
}

// seal stores several secrets and has the server given them.
func (svc *Service) seal(ctx context.Context, by team.Person, r *serverspec.Registration, sealed []carried) (added []string, err error) {
	for i, c := range sealed {
		name := secretName(r.Name, c.place.Name, i)
		if _, err := svc.secrets.Add(ctx, by, apitype.NewSecret{Name: name, Kind: c.kind, Value: c.value}); err != nil {
			return added, fmt.Errorf("store the secret for %s: %w", c.place.Name, err)
		}
		added = append(added, name)
		c.place.Secret = name
		r.Places = append(r.Places, c.place)
	}
	return added, nil
}

// secretName is a name for the nth secret of a server.
func secretName(server, variable string, n int) string {
	clean := strings.Trim(strings.Map(func(r rune) rune {
		if (r >= 'a' && r <= 'z') || (r >= '0' && r <= '9') {
			return r
		}
		return '-'
	}, strings.ToLower(variable)), "-")
	name := server + "-" + clean
	if len(name) > 30 || strings.Contains(name, "--") {
		name = fmt.Sprintf("%.22s-secret-%d", server, n+1)
	}
	return name
}

// undo removes the secrets of a server that was not registered after all.
func (svc *Service) undo(ctx context.Context, by team.Person, added []string) (err error) {
	for _, name := range added {
		err = errors.Join(err, svc.secrets.Remove(context.WithoutCancel(ctx), by, name))
	}
	return err
}
