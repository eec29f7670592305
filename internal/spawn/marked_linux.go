package spawn

import (
	"bytes"
	"os"
	"path/filepath"
	"strconv"
	"strings"
)

// marked returns the processes with a mark in their environment: with that mark, or
// with any that begins with it when it ends with a slash.
func marked(mark string) (pids []int) {
	all, err := filepath.Glob("/proc/[0-9]*/environ")
	if err != nil {
		return nil
	}
	want := []byte(markName + "=" + mark)
	for _, path := range all {
		raw, err := os.ReadFile(path)
		if err != nil || !bytes.Contains(raw, want) {
			continue // it ended meanwhile, is somebody else's, or is none of ours
		}
		for _, v := range bytes.Split(raw, []byte{0}) {
			if !bytes.HasPrefix(v, want) || (!strings.HasSuffix(mark, "/") && len(v) != len(want)) {
				continue
			}
			if pid, err := strconv.Atoi(strings.Split(path, "/")[2]); err == nil && pid != os.Getpid() {
				pids = append(pids, pid)
			}
			break
		}
	}
	return pids
}
