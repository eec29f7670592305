package enrol

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"

	"bouncer/internal/core/configfile"
	"bouncer/internal/core/dialect"
)

// Machine is the machine and the person whose assistants are looked after.
type Machine struct {
	Home     string
	Dir      string // working directory, for files of a project
	Dialects string // directory of the person's own dialects
	Getenv   func(string) string
}

// Known are the dialects that are known: those that come along, and the person's own,
// which take the place of one of the same name. What is wrong with one of their files is
// told besides.
func (m Machine) Known() (list []dialect.Dialect, problems []error) {
	list = dialect.Shipped()
	names, _ := filepath.Glob(filepath.Join(m.Dialects, "*.yaml")) // the pattern is well-formed
	for _, name := range names {
		text, err := os.ReadFile(name)
		if err == nil {
			var d dialect.Dialect
			if d, err = dialect.Parse(text); err == nil {
				list = slices.DeleteFunc(list, func(have dialect.Dialect) bool { return have.Name == d.Name })
				list = append(list, d)
				continue
			}
		}
		problems = append(problems, fmt.Errorf("%s: %w", name, err))
	}
	return list, problems
}

// Own reports whether a dialect is the person's own, and the file that it is in.
func (m Machine) Own(name string) (path string, ok bool) {
	path = filepath.Join(m.Dialects, name+".yaml")
	_, err := os.Stat(path)
	return path, err == nil
}

// Found is a configuration file of an assistant on this machine.
type Found struct {
	Path    string
	Dialect dialect.Dialect
	Scope   string
}

// Find looks for the files of all known dialects.
func (m Machine) Find(known []dialect.Dialect) (out []Found) {
	for _, d := range known {
		for _, p := range d.Files {
			path := p.Locate(runtime.GOOS, m.Home, m.Dir, m.Getenv)
			if path == "" {
				continue
			}
			if slices.ContainsFunc(out, func(have Found) bool { return have.Dialect.Name == d.Name && same(have.Path, path) }) {
				continue // the working directory is the home directory
			}
			if info, err := os.Stat(path); err == nil && info.Mode().IsRegular() {
				scope := p.Scope
				if scope == "" {
					scope = dialect.ScopeUser
				}
				out = append(out, Found{path, d, scope})
			}
		}
	}
	return out
}

// UnclearError says that the dialect of a file cannot be told.
type UnclearError struct {
	Path       string
	Candidates []dialect.Learned
}

func (e *UnclearError) Error() string {
	if len(e.Candidates) > 1 {
		var where []string
		for _, c := range e.Candidates {
			where = append(where, c.Dialect.Servers.String())
		}
		return fmt.Sprintf("%s could keep its servers in several places: %s", e.Path, strings.Join(where, ", "))
	}
	return e.Path + " shows no server, so that it cannot be told how its assistant keeps them"
}

// Choice is the dialect of a file, and how it was come by.
type Choice struct {
	Dialect dialect.Dialect
	File    *configfile.File
	Learned *dialect.Learned // nil when a known one fits
}

// Choose finds the dialect of a file: the one whose place it is, the one whose servers it
// has, or one that is worked out from it. Errors are *configfile.SyntaxError and
// *UnclearError.
func (m Machine) Choose(known []dialect.Dialect, f File) (c Choice, err error) {
	for _, d := range known {
		for _, p := range d.Files {
			at := p.Locate(runtime.GOOS, m.Home, m.Dir, m.Getenv)
			if at != "" && (at == f.Path || at == f.Real || same(at, f.Real)) {
				c.File, err = configfile.Parse(f.Raw, d.Syntax)
				c.Dialect = d
				return c, err
			}
		}
	}
	syntax := configfile.Guess(f.Path, f.Raw)
	if c.File, err = configfile.Parse(f.Raw, syntax); err != nil {
		return c, err
	}
	for _, d := range known {
		if d.Syntax == syntax && fits(d, c.File) {
			c.Dialect = d
			return c, nil
		}
	}
	learned := dialect.Learn(c.File, NameOf(f.Path))
	switch {
	case len(learned) == 1, len(learned) > 1 && learned[0].Clear(learned[1]):
		c.Dialect, c.Learned = learned[0].Dialect, &learned[0]
		return c, nil
	case len(learned) > 1:
		return c, &UnclearError{f.Path, learned}
	case syntax == configfile.JSON:
		// Nothing is there to learn from: the map that most read.
		at := slices.IndexFunc(known, func(d dialect.Dialect) bool { return d.Name == dialect.Common })
		c.Dialect = known[at]
		return c, nil
	}
	return c, &UnclearError{Path: f.Path}
}

func same(a, b string) bool {
	x, err1 := os.Stat(a)
	y, err2 := os.Stat(b)
	return err1 == nil && err2 == nil && os.SameFile(x, y)
}

// fits reports whether a file has servers where a dialect keeps them, written as it
// writes them.
func fits(d dialect.Dialect, f *configfile.File) bool {
	list := d.Entries(f)
	good := 0
	for _, e := range list {
		if e.URL != "" || e.Command != "" {
			good++
		}
	}
	return good > 0 && good*2 >= len(list)
}

// NameOf is a name for the dialect of a file.
func NameOf(path string) string {
	base := strings.TrimLeft(filepath.Base(path), ".")
	base = strings.TrimSuffix(base, filepath.Ext(base))
	for _, plain := range []string{"config", "settings", "mcp", "mcp_config", "servers"} {
		if strings.EqualFold(base, plain) {
			if dir := strings.TrimLeft(filepath.Base(filepath.Dir(path)), "."); dir != "" && dir != "/" {
				base = dir
			}
		}
	}
	name := strings.Trim(strings.Map(func(r rune) rune {
		if (r >= 'a' && r <= 'z') || (r >= '0' && r <= '9') {
			return r
		}
		return '-'
	}, strings.ToLower(base)), "-")
	if len(name) > 32 {
		name = strings.Trim(name[:32], "-")
	}
	if name == "" {
		return "learned"
	}
	return name
}

// AddDialect keeps a dialect among the person's own. One of that name is replaced.
func (m Machine) AddDialect(d dialect.Dialect) (path string, err error) {
	text, err := d.Marshal()
	if err != nil {
		return "", err
	}
	if err := os.MkdirAll(m.Dialects, 0o700); err != nil {
		return "", fmt.Errorf("keep a dialect: %w", err)
	}
	path = filepath.Join(m.Dialects, d.Name+".yaml")
	if err := replaceFile(path, text, 0o600); err != nil {
		return "", fmt.Errorf("keep a dialect: %w", err)
	}
	return path, nil
}

// RemoveDialect forgets one of the person's own dialects; fs.ErrNotExist when there is
// none of that name.
func (m Machine) RemoveDialect(name string) error {
	path, ok := m.Own(name)
	if !ok {
		return fmt.Errorf("remove a dialect: %w", fs.ErrNotExist)
	}
	if err := os.Remove(path); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return fmt.Errorf("remove a dialect: %w", err)
	}
	return nil
}

// Learn works out the dialects that a file may be in, the likeliest first. Errors are
// *configfile.SyntaxError.
func Learn(f File, name string) ([]dialect.Learned, error) {
	if name == "" {
		name = NameOf(f.Path)
	}
	file, err := configfile.Parse(f.Raw, configfile.Guess(f.Path, f.Raw))
	if err != nil {
		return nil, err
	}
	return dialect.Learn(file, name), nil
}
