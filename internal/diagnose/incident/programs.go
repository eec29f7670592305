package incident

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"

	"bouncer/internal/apitype"
	"bouncer/internal/core/team"
)

// altered are the files that a server is started from, and that were written in a time: its
// program, and what of its arguments names a file.
func altered(s team.Server, from, to time.Time) (list []suspicion) {
	if s.Command == "" {
		return nil
	}
	seen := map[string]bool{}
	for n, word := range append([]string{s.Command}, s.Args...) {
		path := fileOf(word, s.Dir, n == 0)
		if path == "" || seen[path] {
			continue
		}
		seen[path] = true
		info, err := os.Stat(path)
		if err != nil || !info.Mode().IsRegular() || !info.ModTime().After(from) || info.ModTime().After(to) {
			continue // what is not there is told by a checkup
		}
		what := "the file " + path + " was written"
		list = append(list, suspicion{apitype.Suspect{At: info.ModTime().UTC(), What: what, Why: "the server is started from it"}, 95})
	}
	return list
}

// fileOf is the file that a word of a command line names; "" for none.
func fileOf(word, dir string, command bool) string {
	switch {
	case filepath.IsAbs(word):
		return word
	case command && !strings.ContainsRune(word, '/'):
		path, err := exec.LookPath(word)
		if err != nil || !filepath.IsAbs(path) {
			return ""
		}
		return path
	case dir == "" || strings.HasPrefix(word, "-"):
		return ""
	}
	return filepath.Join(dir, word)
}
