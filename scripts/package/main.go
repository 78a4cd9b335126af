// Command package builds what administrators install: Debian and RPM packages, tar archives
// and container images, into dist/.
package main

import (
	"archive/tar"
	"bytes"
	"compress/gzip"
	"errors"
	"flag"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/goreleaser/nfpm/v2"
	_ "github.com/goreleaser/nfpm/v2/deb"
	"github.com/goreleaser/nfpm/v2/files"
	_ "github.com/goreleaser/nfpm/v2/rpm"

	"urbankeep/internal/face/command"
	"urbankeep/internal/program"
)

func main() {
	version := flag.String("version", readVersion(), "the `version` that the packages have")
	platforms := flag.String("platforms", "linux/amd64,linux/arm64,darwin/arm64,windows/amd64", "what to build for, as in `linux/amd64`")
	out := flag.String("out", "dist", "the `folder` to build into")
	kind := flag.String("kind", "", "one of deb, rpm, tar and image only; all of them when empty")
	only := flag.String("arch", "", "one architecture only, as in `amd64`; all of them when empty")
	flag.Parse()
	kinds := []string{"deb", "rpm", "tar", "image"}
	if *kind != "" && !slices.Contains(kinds, *kind) {
		fmt.Fprintf(os.Stderr, "package: %q is no kind of package: use deb, rpm, tar or image\n", *kind)
		os.Exit(2)
	}
	made := 0
	for _, platform := range strings.Split(*platforms, ",") {
		system, arch, _ := strings.Cut(platform, "/")
		b := &build{version: *version, system: system, arch: arch, out: *out}
		for _, k := range kinds {
			if (*kind == "" || *kind == k) && (k == "tar" || system == "linux") && (*only == "" || *only == arch) {
				b.kinds = append(b.kinds, k)
			}
		}
		if len(b.kinds) == 0 {
			continue
		}
		made++
		if err := b.run(); err != nil {
			fmt.Fprintf(os.Stderr, "package %s: %v\n", platform, err)
			os.Exit(1)
		}
	}
	if made == 0 {
		fmt.Fprintf(os.Stderr, "package: there is nothing of kind %q for %q: architectures are those of %s\n", *kind, *only, *platforms)
		os.Exit(2)
	}
}

func readVersion() string {
	text, err := os.ReadFile("VERSION")
	if err != nil {
		return "0.0.0"
	}
	return strings.TrimSpace(string(text))
}

// build makes the packages of one platform.
type build struct {
	version, system, arch, out string
	kinds                      []string // of deb, rpm, tar and image
	scratch                    string
}

// item is one file of a package: where it comes from, and where it is installed.
type item struct {
	from, to string
	mode     os.FileMode
	config   bool // an upgrade leaves what was changed of it
}

func (b *build) run() (err error) {
	if b.scratch, err = os.MkdirTemp("", "package-"); err != nil {
		return err
	}
	defer os.RemoveAll(b.scratch)
	if err := os.MkdirAll(b.out, 0o755); err != nil {
		return err
	}
	binary := filepath.Join(b.scratch, "urbankeep")
	if b.system == "windows" {
		binary += ".exe"
	}
	compile := exec.Command("go", "build", "-trimpath", "-ldflags", "-s -w -X urbankeep/internal/program.Version="+b.version, "-o", binary, "./cmd/urbankeep")
	compile.Env = append(os.Environ(), "CGO_ENABLED=0", "GOOS="+b.system, "GOARCH="+b.arch)
	if text, err := compile.CombinedOutput(); err != nil {
		return fmt.Errorf("%w: %s", err, text)
	}
	items, err := b.items(binary)
	if err != nil {
		return err
	}
	for _, kind := range b.kinds {
		switch kind {
		case "tar":
			err = b.tar(items)
		case "image":
			err = b.image(binary)
		default:
			err = b.packed(kind, items)
		}
		if err != nil {
			return fmt.Errorf("%s: %w", kind, err)
		}
	}
	return nil
}

func (b *build) items(binary string) ([]item, error) {
	items := []item{{from: binary, to: "/usr/bin/" + filepath.Base(binary), mode: 0o755}}
	commands := program.Commands()
	pages := filepath.Join(b.scratch, "man")
	if err := os.Mkdir(pages, 0o755); err != nil {
		return nil, err
	}
	if err := command.ManPages(pages, b.version, commands); err != nil {
		return nil, err
	}
	found, err := filepath.Glob(filepath.Join(pages, "*.1"))
	if err != nil {
		return nil, err
	}
	for _, page := range found {
		if err := squeeze(page); err != nil {
			return nil, err
		}
		items = append(items, item{from: page + ".gz", to: "/usr/share/man/man1/" + filepath.Base(page) + ".gz", mode: 0o644})
	}
	for shell, to := range map[string]string{"bash": "/usr/share/bash-completion/completions/urbankeep", "zsh": "/usr/share/zsh/vendor-completions/_urbankeep", "fish": "/usr/share/fish/vendor_completions.d/urbankeep.fish"} {
		var text bytes.Buffer
		if err := command.WriteCompletion(&text, shell); err != nil {
			return nil, err
		}
		file := filepath.Join(b.scratch, "completion."+shell)
		if err := os.WriteFile(file, text.Bytes(), 0o644); err != nil {
			return nil, err
		}
		items = append(items, item{from: file, to: to, mode: 0o644})
	}
	docs, err := filepath.Glob("docs/*.md")
	if err != nil {
		return nil, err
	}
	for _, doc := range append(docs, "README.md") {
		items = append(items, item{from: doc, to: "/usr/share/doc/urbankeep/" + filepath.Base(doc), mode: 0o644})
	}
	if b.system != "linux" {
		return items, nil
	}
	return append(items,
		item{from: "packaging/urbankeep.service", to: "/usr/lib/systemd/system/urbankeep.service", mode: 0o644},
		item{from: "packaging/urbankeep-sftp.socket", to: "/usr/lib/systemd/system/urbankeep-sftp.socket", mode: 0o644},
		item{from: "packaging/urbankeep.default", to: "/etc/default/urbankeep", mode: 0o644, config: true}), nil
}

// squeeze writes a file once more, packed by gzip without a time, so that the same text
// gives the same file.
func squeeze(file string) error {
	text, err := os.ReadFile(file)
	if err != nil {
		return err
	}
	var packed bytes.Buffer
	w := gzip.NewWriter(&packed)
	if _, err := w.Write(text); err != nil {
		return err
	}
	if err := w.Close(); err != nil {
		return err
	}
	return os.WriteFile(file+".gz", packed.Bytes(), 0o644)
}

// packed makes a Debian or an RPM package.
func (b *build) packed(format string, items []item) error {
	info := &nfpm.Info{Name: "urbankeep", Arch: b.arch, Platform: b.system, Version: b.version, Section: "net", Priority: "optional", Maintainer: "The Urban Keep developers <urbankeep@example.org>",
		Description: "FTP and SFTP service with accounts, rights, quotas and an audit trail.\nOne program: the service, the client that administers it and the web console it serves.", MTime: time.Now()}
	info.Depends = []string{"passwd"}
	if format == "rpm" {
		info.Depends = []string{"shadow-utils"}
	}
	info.Scripts = nfpm.Scripts{PostInstall: "packaging/postinstall.sh", PreRemove: "packaging/preremove.sh", PostRemove: "packaging/postremove.sh"}
	for _, one := range items {
		kind := files.TypeFile
		if one.config {
			kind = files.TypeConfigNoReplace
		}
		info.Contents = append(info.Contents, &files.Content{Source: one.from, Destination: one.to, Type: kind, FileInfo: &files.ContentFileInfo{Mode: one.mode, MTime: info.MTime}})
	}
	info = nfpm.WithDefaults(info)
	if err := nfpm.PrepareForPackager(info, format); err != nil {
		return err
	}
	packager, err := nfpm.Get(format)
	if err != nil {
		return err
	}
	name := filepath.Join(b.out, packager.ConventionalFileName(info))
	file, err := os.Create(name)
	if err != nil {
		return err
	}
	if err := errors.Join(packager.Package(info, file), file.Close()); err != nil {
		return err
	}
	fmt.Println(name)
	return nil
}

// tar makes an archive to be unpacked anywhere.
func (b *build) tar(items []item) error {
	base := fmt.Sprintf("urbankeep-%s-%s-%s", b.version, b.system, b.arch)
	name := filepath.Join(b.out, base+".tar.gz")
	file, err := os.Create(name)
	if err != nil {
		return err
	}
	defer file.Close()
	packed := gzip.NewWriter(file)
	out := tar.NewWriter(packed)
	for _, one := range items {
		to := strings.TrimPrefix(one.to, "/usr/")
		if strings.HasPrefix(to, "bin/") {
			to = filepath.Base(to)
		}
		if err := put(out, one, base+"/"+strings.TrimPrefix(to, "/")); err != nil {
			return err
		}
	}
	if err := errors.Join(out.Close(), packed.Close(), file.Close()); err != nil {
		return err
	}
	fmt.Println(name)
	return nil
}

func put(out *tar.Writer, one item, name string) error {
	in, err := os.Open(one.from)
	if err != nil {
		return err
	}
	defer in.Close()
	info, err := in.Stat()
	if err != nil {
		return err
	}
	if err := out.WriteHeader(&tar.Header{Name: name, Mode: int64(one.mode), Size: info.Size(), ModTime: time.Now()}); err != nil {
		return err
	}
	_, err = io.Copy(out, in)
	return err
}
