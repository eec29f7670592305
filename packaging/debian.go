package main

import (
	"fmt"
	"os"
	"path/filepath"

	"github.com/goreleaser/nfpm/v2"
	_ "github.com/goreleaser/nfpm/v2/deb" // the format
	"github.com/goreleaser/nfpm/v2/files"
)

// debian makes a Debian package: its own user, a unit that is fenced in, and settings that
// outlive an upgrade.
func debian(b built, path string) (err error) {
	dir, err := os.MkdirTemp("", "bouncer-debian-*")
	if err != nil {
		return fmt.Errorf("make a directory: %w", err)
	}
	defer os.RemoveAll(dir)
	var contents files.Contents
	for i, f := range b.files {
		raw, err := f.content()
		if err != nil {
			return err
		}
		from := filepath.Join(dir, fmt.Sprint(i))
		if err := os.WriteFile(from, raw, 0o600); err != nil {
			return fmt.Errorf("lay out the package: %w", err)
		}
		one := &files.Content{Source: from, Destination: f.path, FileInfo: &files.ContentFileInfo{Mode: f.mode, MTime: b.when}}
		if f.config {
			one.Type = files.TypeConfigNoReplace
		}
		contents = append(contents, one)
	}
	own := filepath.Dir(source(b, "/usr/lib/systemd/system/bouncer.service"))
	info := nfpm.WithDefaults(&nfpm.Info{
		Name: "bouncer", Version: b.version, Arch: b.arch, Platform: "linux", Section: "net", Priority: "optional", MTime: b.when,
		Maintainer: "Skerrow Ferries <desk@skerrow.example>",
		Description: "Stands between a team's assistants and its tool servers.\n" +
			"One entry in each assistant, once; servers, secrets and rules live behind it;\n" +
			"every call is decided, carried and recorded.",
		Overridables: nfpm.Overridables{
			Contents: contents, Depends: []string{"passwd"}, Recommends: []string{"ca-certificates"},
			Scripts: nfpm.Scripts{
				PostInstall: filepath.Join(own, "postinst"), PreRemove: filepath.Join(own, "prerm"), PostRemove: filepath.Join(own, "postrm"),
			},
		},
	})
	if err := nfpm.Validate(info); err != nil {
		return fmt.Errorf("check the package: %w", err)
	}
	packager, err := nfpm.Get("deb")
	if err != nil {
		return fmt.Errorf("find the format: %w", err)
	}
	out, err := os.Create(path)
	if err != nil {
		return fmt.Errorf("write the package: %w", err)
	}
	if err := packager.Package(info, out); err != nil {
		_ = out.Close()
		return fmt.Errorf("write the package: %w", err)
	}
	return out.Close()
}

// source is where a file comes from.
func source(b built, path string) string {
	for _, f := range b.files {
		if f.path == path {
			return f.from
		}
	}
	return ""
}
