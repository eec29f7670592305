package main

import (
	"bytes"
	"compress/gzip"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"sort"
	"strings"
	"time"
)

// file is one file of a package.
type file struct {
	path   string // where it is installed, absolute
	from   string // where it comes from, when it is a file
	data   []byte // what is in it, otherwise
	mode   os.FileMode
	config bool // altered by those who run it, and kept when the package is replaced
}

// built is what packages are made of.
type built struct {
	version string
	arch    string
	when    time.Time // of everything in a package, so that the same source makes the same bytes
	program string    // path of the program
	files   []file
}

// gather collects what is installed: the program, the unit, settings, manual pages,
// completions and documents.
func gather(root, program string) (built, error) {
	b := built{arch: runtime.GOARCH, when: sourceDate(root), program: program}
	out, err := exec.Command(program, "version").Output()
	if err != nil {
		return b, fmt.Errorf("ask the program for its version: %w", err)
	}
	b.version = cleanVersion(string(out))
	own := filepath.Join(root, "packaging", "files")
	b.files = []file{
		{path: "/usr/bin/bouncer", from: program, mode: 0o755},
		{path: "/usr/lib/systemd/system/bouncer.service", from: filepath.Join(own, "bouncer.service"), mode: 0o644},
		{path: "/etc/bouncer/bouncer.env", from: filepath.Join(own, "bouncer.env"), mode: 0o640, config: true},
	}
	for shell, path := range map[string]string{
		"bash": "/usr/share/bash-completion/completions/bouncer", "zsh": "/usr/share/zsh/vendor-completions/_bouncer",
		"fish": "/usr/share/fish/vendor_completions.d/bouncer.fish",
	} {
		script, err := exec.Command(program, "completion", shell).Output()
		if err != nil {
			return b, fmt.Errorf("ask the program for its completion for %s: %w", shell, err)
		}
		b.files = append(b.files, file{path: path, data: script, mode: 0o644})
	}
	if err := b.manual(); err != nil {
		return b, err
	}
	for _, name := range []string{"README.md", "CHANGELOG.md", "docs/guide.md", "docs/reference.md", "docs/causes.md", "docs/tape.md",
		"docs/roster.schema.json", "docs/monitoring/alerts.yaml", "docs/monitoring/dashboard.json"} {
		b.files = append(b.files, file{path: "/usr/share/doc/bouncer/" + name, from: filepath.Join(root, name), mode: 0o644})
	}
	sort.Slice(b.files, func(i, j int) bool { return b.files[i].path < b.files[j].path })
	return b, nil
}

// manual adds the manual pages, compressed as they are installed.
func (b *built) manual() error {
	dir, err := os.MkdirTemp("", "bouncer-manual-*")
	if err != nil {
		return fmt.Errorf("make a directory for manual pages: %w", err)
	}
	defer os.RemoveAll(dir)
	if out, err := exec.Command(b.program, "manual", dir).CombinedOutput(); err != nil {
		return fmt.Errorf("ask the program for its manual pages: %w: %s", err, out)
	}
	pages, err := filepath.Glob(filepath.Join(dir, "*.1"))
	if err != nil {
		return fmt.Errorf("list the manual pages: %w", err)
	}
	for _, page := range pages {
		raw, err := os.ReadFile(page)
		if err != nil {
			return fmt.Errorf("read a manual page: %w", err)
		}
		var packed bytes.Buffer
		z, err := gzip.NewWriterLevel(&packed, gzip.BestCompression)
		if err == nil {
			_, err = z.Write(raw)
		}
		if err == nil {
			err = z.Close()
		}
		if err != nil {
			return fmt.Errorf("compress a manual page: %w", err)
		}
		b.files = append(b.files, file{path: "/usr/share/man/man1/" + filepath.Base(page) + ".gz", data: packed.Bytes(), mode: 0o644})
	}
	return nil
}

// content is what is in a file.
func (f file) content() ([]byte, error) {
	if f.from == "" {
		return f.data, nil
	}
	raw, err := os.ReadFile(f.from)
	if err != nil {
		return nil, fmt.Errorf("read what is packed: %w", err)
	}
	return raw, nil
}

// cleanVersion takes the version out of what the program says; what packages cannot have
// in a version becomes a dot.
func cleanVersion(said string) string {
	fields := strings.Fields(said)
	if len(fields) < 2 {
		return "0"
	}
	return strings.Map(func(r rune) rune {
		switch {
		case r >= '0' && r <= '9', r >= 'a' && r <= 'z', r == '.', r == '+', r == '~':
			return r
		}
		return '.'
	}, strings.TrimPrefix(fields[1], "v"))
}

// sourceDate is when the source was altered last.
func sourceDate(root string) time.Time {
	out, err := exec.Command("git", "-C", root, "log", "-1", "--format=%cI").Output()
	if err == nil {
		if at, err := time.Parse(time.RFC3339, strings.TrimSpace(string(out))); err == nil {
			return at.UTC()
		}
	}
	return time.Unix(0, 0).UTC()
}
