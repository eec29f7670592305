package stdio

import (
	"context"
	"errors"
	"os"
	"time"

	"bouncer/internal/spawn"
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

// secretVars returns the variables that carry secrets, and the files of those that
// are files, which the caller removes when the process has ended.
func (p *Conn) secretVars(ctx context.Context) (env []string, files *spawn.Secrets, err error) {
	if p.c.Used != nil {
		p.c.Used.Store(time.Now().UnixMilli())
	}
	files = p.spawner.Secrets()
	if p.c.SecretEnv != "" && p.c.Vars == nil {
		return []string{p.c.SecretEnv + "=" + p.c.Secret.Reveal()}, files, nil
	}
	if p.c.Vars == nil {
		return nil, files, nil
	}
	vars, err := p.c.Vars(ctx)
	if err != nil {
		return nil, nil, err
	}
	for _, v := range vars {
		value := v.Value.Reveal()
		if v.File {
			if value, err = files.Put(v.Name, value); err != nil {
				return nil, nil, errors.Join(err, files.Remove())
			}
		}
		env = append(env, v.Name+"="+value)
	}
	return env, files, nil
}
