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

// Environment returns the variables that a process of the command gets: those it inherits,
// its own, and those that carry secrets, with the files of those that are files, which the
// caller removes when the process has ended.
func Environment(ctx context.Context, c Command, spawner *spawn.Spawner) (env []string, files *spawn.Secrets, err error) {
	for _, name := range inherited {
		if v, ok := os.LookupEnv(name); ok {
			env = append(env, name+"="+v)
		}
	}
	for name, v := range c.Env {
		env = append(env, name+"="+v)
	}
	if c.Used != nil {
		c.Used.Store(time.Now().UnixMilli())
	}
	files = spawner.Secrets()
	if c.SecretEnv != "" && c.Vars == nil {
		return append(env, c.SecretEnv+"="+c.Secret.Reveal()), files, nil
	}
	if c.Vars == nil {
		return env, files, nil
	}
	vars, err := c.Vars(ctx)
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
