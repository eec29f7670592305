package stdio

import (
	"os"
	"path/filepath"
	"time"
)

// program is what a process was started from: the executable, and the arguments that
// are files, such as a script.
type program []stamp

// stamp tells two states of a file apart.
type stamp struct {
	path    string
	size    int64
	altered time.Time
}

// maxStamps bounds the arguments that are looked at.
const maxStamps = 16

// look takes the present state of the files.
func look(executable, dir string, args []string) program {
	var files program
	add := func(path string) {
		if info, err := os.Stat(path); err == nil && info.Mode().IsRegular() && len(files) < maxStamps {
			files = append(files, stamp{path, info.Size(), info.ModTime()})
		}
	}
	add(executable)
	for _, arg := range args {
		if !filepath.IsAbs(arg) {
			arg = filepath.Join(dir, arg)
		}
		add(arg)
	}
	return files
}

// altered returns the first file that is another one now, or is gone; "" for none.
func (p program) altered() string {
	for _, s := range p {
		if info, err := os.Stat(s.path); err != nil || info.Size() != s.size || !info.ModTime().Equal(s.altered) {
			return s.path
		}
	}
	return ""
}
