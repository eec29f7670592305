package stdio

import (
	"context"
	"os"
	"path/filepath"
	"time"
)

// inherited are the only variables of the service's own environment that a
// process gets: what package runners cannot do without.
var inherited = []string{"PATH", "HOME", "LANG", "TMPDIR", "TZ"}

func (p *Conn) environment() []string {
	env := []string{}
	for _, name := range inherited {
		if v, ok := os.LookupEnv(name); ok {
			env = append(env, name+"="+v)
		}
	}
	for name, v := range p.c.Env {
		env = append(env, name+"="+v)
	}
	return env
}

// secretVars returns the variables that carry secrets. Files lie in a directory
// of their own, which the caller removes when the process has ended.
func (p *Conn) secretVars(ctx context.Context) (env []string, dir string, err error) {
	if p.c.Used != nil {
		p.c.Used.Store(time.Now().UnixMilli())
	}
	if p.c.SecretEnv != "" && p.c.Vars == nil {
		return []string{p.c.SecretEnv + "=" + p.c.Secret.Reveal()}, "", nil
	}
	if p.c.Vars == nil {
		return nil, "", nil
	}
	vars, err := p.c.Vars(ctx)
	if err != nil {
		return nil, "", err
	}
	for _, v := range vars {
		value := v.Value.Reveal()
		if v.File {
			if dir == "" {
				if dir, err = os.MkdirTemp("", "bouncer-*"); err != nil {
					return nil, "", err
				}
			}
			path := filepath.Join(dir, v.Name)
			if err := os.WriteFile(path, []byte(value), 0o600); err != nil {
				_ = os.RemoveAll(dir)
				return nil, "", err
			}
			value = path
		}
		env = append(env, v.Name+"="+value)
	}
	return env, dir, nil
}
