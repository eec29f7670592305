package main

import (
	"archive/tar"
	"compress/gzip"
	"fmt"
	"io"
	"os"
	"strings"
)

// portable makes an archive with everything below one directory, for machines without
// Debian's packages.
func portable(b built, path string) error {
	out, err := os.Create(path)
	if err != nil {
		return fmt.Errorf("write the archive: %w", err)
	}
	z := gzip.NewWriter(out)
	if err := entries(b, z, "bouncer-"+b.version); err != nil {
		_ = out.Close()
		return err
	}
	if err := z.Close(); err != nil {
		_ = out.Close()
		return fmt.Errorf("compress the archive: %w", err)
	}
	return out.Close()
}

// entries writes the files of a package below a directory.
func entries(b built, to io.Writer, below string) error {
	t := tar.NewWriter(to)
	for _, f := range b.files {
		raw, err := f.content()
		if err != nil {
			return err
		}
		name := strings.TrimPrefix(below+f.path, "/")
		header := &tar.Header{Name: name, Mode: int64(f.mode), Size: int64(len(raw)), ModTime: b.when, Format: tar.FormatPAX}
		if err := t.WriteHeader(header); err != nil {
			return fmt.Errorf("write %s: %w", name, err)
		}
		if _, err := t.Write(raw); err != nil {
			return fmt.Errorf("write %s: %w", name, err)
		}
	}
	if err := t.Close(); err != nil {
		return fmt.Errorf("end the archive: %w", err)
	}
	return nil
}
