package main

import (
	"archive/tar"
	"bytes"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"time"

	v1 "github.com/google/go-containerregistry/pkg/v1"
	"github.com/google/go-containerregistry/pkg/v1/empty"
	"github.com/google/go-containerregistry/pkg/v1/layout"
	"github.com/google/go-containerregistry/pkg/v1/mutate"
	"github.com/google/go-containerregistry/pkg/v1/tarball"
	"github.com/google/go-containerregistry/pkg/v1/types"
)

// containerUser owns the data folder in a container, and runs the service: nobody else's number.
const containerUser = 65532

// image writes an archive of an OCI image: the program and what it needs, nothing else.
func (b *build) image(binary string) error {
	var text bytes.Buffer
	w := tar.NewWriter(&text)
	program, err := os.ReadFile(binary)
	if err != nil {
		return err
	}
	users := fmt.Sprintf("urbankeep:x:%d:%d:Urban Keep:/data:/sbin/nologin\n", containerUser, containerUser)
	for _, one := range []struct {
		name  string
		mode  int64
		owner int
		text  []byte // nil: a folder
	}{{"usr/", 0o755, 0, nil}, {"usr/bin/", 0o755, 0, nil}, {"usr/bin/urbankeep", 0o755, 0, program}, {"etc/", 0o755, 0, nil}, {"etc/passwd", 0o644, 0, []byte(users)},
		{"etc/group", 0o644, 0, fmt.Appendf(nil, "urbankeep:x:%d:\n", containerUser)}, {"tmp/", 0o1777, 0, nil}, {"data/", 0o700, containerUser, nil}} {
		head := &tar.Header{Name: one.name, Mode: one.mode, Uid: one.owner, Gid: one.owner, Size: int64(len(one.text)), ModTime: time.Unix(0, 0), Typeflag: tar.TypeReg, Format: tar.FormatPAX}
		if one.text == nil {
			head.Typeflag = tar.TypeDir
		}
		if err := w.WriteHeader(head); err != nil {
			return err
		}
		if _, err := w.Write(one.text); err != nil {
			return err
		}
	}
	if err := w.Close(); err != nil {
		return err
	}
	layer, err := tarball.LayerFromOpener(func() (io.ReadCloser, error) { return io.NopCloser(bytes.NewReader(text.Bytes())), nil }, tarball.WithMediaType(types.OCILayer))
	if err != nil {
		return err
	}
	image := mutate.MediaType(mutate.ConfigMediaType(empty.Image, types.OCIConfigJSON), types.OCIManifestSchema1)
	if image, err = mutate.AppendLayers(image, layer); err != nil {
		return err
	}
	image, err = mutate.ConfigFile(image, b.config(image))
	if err != nil {
		return err
	}
	folder := filepath.Join(b.scratch, "image")
	at, err := layout.Write(folder, empty.Index)
	if err != nil {
		return err
	}
	if err := at.AppendImage(image, layout.WithAnnotations(map[string]string{"org.opencontainers.image.ref.name": b.version}),
		layout.WithPlatform(v1.Platform{OS: b.system, Architecture: b.arch})); err != nil {
		return err
	}
	return archive(filepath.Join(b.out, fmt.Sprintf("urbankeep_%s_linux_%s.oci.tar", b.version, b.arch)), folder)
}

// config says how a container runs. The health check is read by engines that know one; others
// ask /readyz.
func (b *build) config(image v1.Image) *v1.ConfigFile {
	config, err := image.ConfigFile()
	if err != nil {
		config = &v1.ConfigFile{}
	}
	config = config.DeepCopy()
	config.OS, config.Architecture, config.Created = b.system, b.arch, v1.Time{Time: time.Unix(0, 0).UTC()}
	config.Config = v1.Config{User: fmt.Sprintf("%d:%d", containerUser, containerUser), WorkingDir: "/data", Env: []string{"PATH=/usr/bin", "URBANKEEP_DATA=/data"},
		Entrypoint: []string{"/usr/bin/urbankeep"}, Cmd: []string{"serve", "-console", ":8470"}, Volumes: map[string]struct{}{"/data": {}},
		ExposedPorts: map[string]struct{}{"8470/tcp": {}, "2121/tcp": {}, "2990/tcp": {}, "2222/tcp": {}, "47000-47199/tcp": {}}, StopSignal: "SIGTERM",
		Healthcheck: &v1.HealthConfig{Test: []string{"CMD", "/usr/bin/urbankeep", "ready"}, Interval: 30 * time.Second, Timeout: 10 * time.Second, StartPeriod: time.Minute, Retries: 3},
		Labels:      map[string]string{"org.opencontainers.image.title": "Urban Keep", "org.opencontainers.image.version": b.version}}
	return config
}

// archive puts a folder into a tar file, always in the same way.
func archive(name, folder string) error {
	var text bytes.Buffer
	w := tar.NewWriter(&text)
	err := filepath.WalkDir(folder, func(path string, entry fs.DirEntry, err error) error {
		if err != nil || path == folder {
			return err
		}
		inside, err := filepath.Rel(folder, path)
		if err != nil {
			return err
		}
		head := &tar.Header{Name: filepath.ToSlash(inside), Mode: 0o644, ModTime: time.Unix(0, 0), Typeflag: tar.TypeReg}
		if entry.IsDir() {
			head.Name, head.Mode, head.Typeflag = head.Name+"/", 0o755, tar.TypeDir
			return w.WriteHeader(head)
		}
		content, err := os.ReadFile(path)
		if err != nil {
			return err
		}
		head.Size = int64(len(content))
		if err := w.WriteHeader(head); err != nil {
			return err
		}
		_, err = w.Write(content)
		return err
	})
	if err != nil {
		return err
	}
	if err := w.Close(); err != nil {
		return err
	}
	return os.WriteFile(name, text.Bytes(), 0o644)
}
