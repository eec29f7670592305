package main

import (
	"archive/tar"
	"bytes"
	"fmt"
	"io"
	"os"

	v1 "github.com/google/go-containerregistry/pkg/v1"
	"github.com/google/go-containerregistry/pkg/v1/empty"
	"github.com/google/go-containerregistry/pkg/v1/layout"
	"github.com/google/go-containerregistry/pkg/v1/mutate"
	"github.com/google/go-containerregistry/pkg/v1/tarball"
	"github.com/google/go-containerregistry/pkg/v1/types"
)

// ids of the user in the image; nobody else's on most machines.
const userID = 65532

// authorities are where a machine keeps the certificate authorities that it trusts.
const authorities = "/etc/ssl/certs/ca-certificates.crt"

// image makes an image with the program and nothing else but a user and certificate
// authorities, as an archive of its layout, without an engine.
func image(b built, path string) error {
	layer, err := layerOf(b)
	if err != nil {
		return err
	}
	img := mutate.ConfigMediaType(mutate.MediaType(empty.Image, types.OCIManifestSchema1), types.OCIConfigJSON)
	if img, err = mutate.AppendLayers(img, layer); err != nil {
		return fmt.Errorf("add the layer: %w", err)
	}
	config, err := img.ConfigFile()
	if err != nil {
		return fmt.Errorf("read the configuration: %w", err)
	}
	config = config.DeepCopy()
	config.OS, config.Architecture, config.Created = "linux", b.arch, v1.Time{Time: b.when}
	config.Config = v1.Config{
		User: fmt.Sprintf("%d:%d", userID, userID), Entrypoint: []string{"/usr/bin/bouncer"}, Cmd: []string{"serve"},
		Env:          []string{"BOUNCER_DATA=/var/lib/bouncer", "BOUNCER_LISTEN=0.0.0.0:4680", "PATH=/usr/bin"},
		ExposedPorts: map[string]struct{}{"4680/tcp": {}}, Volumes: map[string]struct{}{"/var/lib/bouncer": {}}, WorkingDir: "/var/lib/bouncer",
		Labels: map[string]string{"org.opencontainers.image.title": "bouncer", "org.opencontainers.image.version": b.version},
	}
	if img, err = mutate.ConfigFile(img, config); err != nil {
		return fmt.Errorf("write the configuration: %w", err)
	}
	dir, err := os.MkdirTemp("", "bouncer-image-*")
	if err != nil {
		return fmt.Errorf("make a directory: %w", err)
	}
	defer os.RemoveAll(dir)
	at, err := layout.Write(dir, empty.Index)
	if err != nil {
		return fmt.Errorf("write the layout: %w", err)
	}
	name := layout.WithAnnotations(map[string]string{"org.opencontainers.image.ref.name": "bouncer:" + b.version})
	if err := at.AppendImage(img, name); err != nil {
		return fmt.Errorf("write the image: %w", err)
	}
	return archive(dir, path, b)
}

// layerOf is the one layer of the image.
func layerOf(b built) (v1.Layer, error) {
	roots, err := os.ReadFile(authorities)
	if err != nil {
		return nil, fmt.Errorf("read the certificate authorities of this machine: %w", err)
	}
	program, err := os.ReadFile(b.program)
	if err != nil {
		return nil, fmt.Errorf("read the program: %w", err)
	}
	var raw bytes.Buffer
	t := tar.NewWriter(&raw)
	add := func(header tar.Header, data []byte) {
		header.ModTime, header.Size, header.Format = b.when, int64(len(data)), tar.FormatPAX
		if err == nil {
			err = t.WriteHeader(&header)
		}
		if err == nil {
			_, err = t.Write(data)
		}
	}
	passwd := fmt.Sprintf("root:x:0:0:root:/:/nologin\nbouncer:x:%d:%d:bouncer:/var/lib/bouncer:/nologin\n", userID, userID)
	add(tar.Header{Name: "etc/passwd", Mode: 0o644}, []byte(passwd))
	add(tar.Header{Name: "etc/ssl/certs/ca-certificates.crt", Mode: 0o644}, roots)
	add(tar.Header{Name: "tmp/", Typeflag: tar.TypeDir, Mode: 0o1777}, nil)
	add(tar.Header{Name: "usr/bin/bouncer", Mode: 0o755}, program)
	add(tar.Header{Name: "var/lib/bouncer/", Typeflag: tar.TypeDir, Mode: 0o700, Uid: userID, Gid: userID}, nil)
	if err == nil {
		err = t.Close()
	}
	if err != nil {
		return nil, fmt.Errorf("write the layer: %w", err)
	}
	layer, err := tarball.LayerFromOpener(func() (io.ReadCloser, error) {
		return io.NopCloser(bytes.NewReader(raw.Bytes())), nil
	}, tarball.WithMediaType(types.OCILayer))
	if err != nil {
		return nil, fmt.Errorf("make a layer: %w", err)
	}
	return layer, nil
}
