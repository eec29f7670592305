//go:build !unix

package enrol

import (
	"errors"
	"io/fs"
	"os"
	"time"
)

// lock waits for a file that only one can make. One that was left behind is taken over
// after a while.
func lock(path string) (unlock func(), err error) {
	for try := 0; ; try++ {
		f, err := os.OpenFile(path, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
		if err == nil {
			_ = f.Close()
			return func() { _ = os.Remove(path) }, nil
		}
		if !errors.Is(err, fs.ErrExist) {
			return nil, err
		}
		if try > 100 {
			_ = os.Remove(path)
		}
		time.Sleep(50 * time.Millisecond)
	}
}
