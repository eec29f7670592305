package main

import (
	"archive/tar"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
)

// archive writes a directory as a tar file, with nothing in it that differs from one time
// to the next.
func archive(dir, path string, b built) error {
	out, err := os.Create(path)
	if err != nil {
		return fmt.Errorf("write the archive: %w", err)
	}
	t := tar.NewWriter(out)
	err = filepath.WalkDir(dir, func(at string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		raw, err := os.ReadFile(at)
		if err != nil {
			return err
		}
		name, err := filepath.Rel(dir, at)
		if err != nil {
			return err
		}
		header := &tar.Header{Name: filepath.ToSlash(name), Mode: 0o644, Size: int64(len(raw)), ModTime: b.when, Format: tar.FormatPAX}
		if err := t.WriteHeader(header); err != nil {
			return err
		}
		_, err = t.Write(raw)
		return err
	})
	if closeErr := t.Close(); err == nil {
		err = closeErr
	}
	if closeErr := out.Close(); err == nil {
		err = closeErr
	}
	if err != nil {
		return fmt.Errorf("write the archive: %w", err)
	}
	return nil
}
