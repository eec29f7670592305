package main

import (
	"archive/tar"
	"bufio"
	"compress/gzip"
	"context"
	"crypto/sha256"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"github.com/google/go-containerregistry/pkg/v1/layout"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// made are the packages of the present source, made once.
func made(t *testing.T) (deb, tarred, oci string) {
	t.Helper()
	dir := t.TempDir()
	program := filepath.Join(dir, "bouncer")
	build := exec.Command("go", "build", "-o", program, "./cmd/bouncer")
	build.Dir, build.Env = "..", append(os.Environ(), "CGO_ENABLED=0")
	out, err := build.CombinedOutput()
	require.NoError(t, err, "%s", out)
	to := filepath.Join(dir, "packages")
	require.NoError(t, run("..", program, to))
	find := func(pattern string) string {
		found, err := filepath.Glob(filepath.Join(to, pattern))
		require.NoError(t, err)
		require.Len(t, found, 1)
		return found[0]
	}
	deb, tarred, oci = find("*.deb"), find("*.tar.gz"), find("*.oci.tar")
	before := []string{sum(t, deb), sum(t, tarred), sum(t, oci)}
	require.NoError(t, run("..", program, to))
	assert.Equal(t, before, []string{sum(t, deb), sum(t, tarred), sum(t, oci)}, "the same source makes the same bytes")
	return deb, tarred, oci
}

func sum(t *testing.T, path string) string {
	t.Helper()
	raw, err := os.ReadFile(path)
	require.NoError(t, err)
	total := sha256.Sum256(raw)
	return string(total[:])
}

// starts runs a service and asks it whether it is ready.
func starts(t *testing.T, c *exec.Cmd) {
	t.Helper()
	out, err := c.StdoutPipe()
	require.NoError(t, err)
	c.Stderr = os.Stderr
	require.NoError(t, c.Start())
	defer func() {
		_ = c.Process.Signal(syscall.SIGTERM)
		assert.NoError(t, c.Wait(), "it ends when it is told to")
	}()
	lines := bufio.NewScanner(out)
	require.True(t, lines.Scan(), "it says where it listens")
	_, address, found := strings.Cut(lines.Text(), "listening on ")
	require.True(t, found, lines.Text())
	go func() { _, _ = io.Copy(io.Discard, out) }() // ends with the process
	r, err := http.NewRequestWithContext(t.Context(), http.MethodGet, address+"/readyz", nil)
	require.NoError(t, err)
	resp, err := http.DefaultClient.Do(r)
	require.NoError(t, err)
	defer resp.Body.Close()
	assert.Equal(t, http.StatusOK, resp.StatusCode)
}

func serve(ctx context.Context, program, data string) *exec.Cmd {
	return exec.CommandContext(ctx, program, "serve", "--data", data, "--listen", "127.0.0.1:0", "--first-admin", "marit", "--processes", "off",
		"--disk-reserve", "0")
}

// Each package is unpacked as those who use it would, and what is in it is started.
func TestPackagesStart(t *testing.T) {
	deb, tarred, oci := made(t)
	t.Run("Debian", func(t *testing.T) {
		if _, err := exec.LookPath("dpkg-deb"); err != nil {
			t.Skip("there is no dpkg-deb on this machine")
		}
		root := t.TempDir()
		out, err := exec.Command("dpkg-deb", "-x", deb, root).CombinedOutput()
		require.NoError(t, err, "%s", out)
		starts(t, serve(t.Context(), filepath.Join(root, "usr/bin/bouncer"), t.TempDir()))
		fields, err := exec.Command("dpkg-deb", "-f", deb).Output()
		require.NoError(t, err)
		assert.Contains(t, string(fields), "Package: bouncer\n")
		settings, err := os.Stat(filepath.Join(root, "etc/bouncer/bouncer.env"))
		require.NoError(t, err)
		assert.Equal(t, os.FileMode(0o640), settings.Mode().Perm())
		control := t.TempDir()
		out, err = exec.Command("dpkg-deb", "-e", deb, control).CombinedOutput()
		require.NoError(t, err, "%s", out)
		for _, script := range []string{"postinst", "prerm", "postrm"} {
			out, err := exec.Command("sh", "-n", filepath.Join(control, script)).CombinedOutput()
			assert.NoError(t, err, "%s: %s", script, out)
		}
		kept, err := os.ReadFile(filepath.Join(control, "conffiles"))
		require.NoError(t, err)
		assert.Equal(t, "/etc/bouncer/bouncer.env\n", string(kept), "what was set outlives an upgrade")
		fenced(t, root)
	})
	t.Run("tarball", func(t *testing.T) {
		root := t.TempDir()
		f, err := os.Open(tarred)
		require.NoError(t, err)
		defer f.Close()
		z, err := gzip.NewReader(f)
		require.NoError(t, err)
		unpack(t, z, root)
		found, err := filepath.Glob(filepath.Join(root, "bouncer-*", "usr", "bin", "bouncer"))
		require.NoError(t, err)
		require.Len(t, found, 1)
		starts(t, serve(t.Context(), found[0], t.TempDir()))
	})
	t.Run("image", func(t *testing.T) { inImage(t, oci) })
}

// fenced has systemd judge the unit.
func fenced(t *testing.T, root string) {
	t.Helper()
	if _, err := exec.LookPath("systemd-analyze"); err != nil {
		t.Log("there is no systemd-analyze on this machine, so the unit is not judged")
		return
	}
	raw, err := os.ReadFile(filepath.Join(root, "usr/lib/systemd/system/bouncer.service"))
	require.NoError(t, err)
	unit := filepath.Join(t.TempDir(), "bouncer.service")
	text := strings.ReplaceAll(string(raw), "=/usr/bin/bouncer", "="+filepath.Join(root, "usr/bin/bouncer"))
	require.NoError(t, os.WriteFile(unit, []byte(text), 0o600))
	out, err := exec.Command("systemd-analyze", "verify", "--man=no", unit).CombinedOutput()
	assert.NoError(t, err, "%s", out)
	out, err = exec.Command("systemd-analyze", "security", "--offline=true", "--threshold=25", unit).CombinedOutput()
	assert.NoError(t, err, "it is fenced in less than it could be:\n%s", out)
}

// inImage starts the image's program in the image's own root, as its own user, where this
// user may do that.
func inImage(t *testing.T, oci string) {
	t.Helper()
	dir, root := t.TempDir(), t.TempDir()
	f, err := os.Open(oci)
	require.NoError(t, err)
	defer f.Close()
	unpack(t, f, dir)
	at, err := layout.FromPath(dir)
	require.NoError(t, err)
	index, err := at.ImageIndex()
	require.NoError(t, err)
	manifest, err := index.IndexManifest()
	require.NoError(t, err)
	require.Len(t, manifest.Manifests, 1)
	img, err := index.Image(manifest.Manifests[0].Digest)
	require.NoError(t, err)
	config, err := img.ConfigFile()
	require.NoError(t, err)
	assert.Equal(t, "65532:65532", config.Config.User)
	assert.Equal(t, []string{"/usr/bin/bouncer"}, config.Config.Entrypoint)
	layers, err := img.Layers()
	require.NoError(t, err)
	require.Len(t, layers, 1)
	content, err := layers[0].Uncompressed()
	require.NoError(t, err)
	defer content.Close()
	unpack(t, content, root)
	if os.Getuid() != 0 {
		starts(t, serve(t.Context(), filepath.Join(root, "usr/bin/bouncer"), t.TempDir()))
		return
	}
	for _, path := range []string{root, filepath.Dir(root)} { // for the image's user
		require.NoError(t, os.Chmod(path, 0o755))
	}
	c := serve(t.Context(), "/usr/bin/bouncer", "/var/lib/bouncer")
	c.Dir, c.Env = "/", config.Config.Env
	c.SysProcAttr = &syscall.SysProcAttr{Chroot: root, Credential: &syscall.Credential{Uid: userID, Gid: userID}}
	starts(t, c)
}

// unpack writes what is in an archive below a directory.
func unpack(t *testing.T, from io.Reader, root string) {
	t.Helper()
	r := tar.NewReader(from)
	for {
		h, err := r.Next()
		if err == io.EOF {
			return
		}
		require.NoError(t, err)
		path := filepath.Join(root, filepath.FromSlash(h.Name))
		require.True(t, strings.HasPrefix(path, root), h.Name)
		if h.Typeflag == tar.TypeDir {
			require.NoError(t, os.MkdirAll(path, 0o755))
		} else {
			require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
			out, err := os.OpenFile(path, os.O_CREATE|os.O_WRONLY, 0o600)
			require.NoError(t, err)
			_, err = io.Copy(out, r)
			require.NoError(t, err)
			require.NoError(t, out.Close())
		}
		require.NoError(t, os.Chmod(path, os.FileMode(h.Mode).Perm()))
		if h.Uid != 0 && os.Getuid() == 0 {
			require.NoError(t, os.Chown(path, h.Uid, h.Gid))
		}
	}
}
