package main

import (
	"bufio"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math/big"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"
)

// overWeb is what rows of the web faces need; empty until it is.
type overWeb struct {
	floor             *exec.Cmd
	jar               string
	ours, oursTLS     string // where the portal is
	floorAt, floorTLS string
}

// serveWebFloor is Go's bare file server, plain and with TLS, which takes a PUT too: no accounts, no rights, no records.
func serveWebFloor() error {
	folder := os.Getenv("FLOOR_FOLDER")
	files := http.FileServer(http.Dir(folder))
	do := http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path == "/all" {
			all(w, filepath.Join(folder, "zipped"))
			return
		}
		if r.Method == "PROPFIND" {
			tellMembers(w, filepath.Join(folder, "members"))
			return
		}
		if r.Method != http.MethodPut {
			files.ServeHTTP(w, r)
			return
		}
		f, err := os.Create(filepath.Join(folder, filepath.Base(r.URL.Path)))
		if err == nil {
			var to io.Writer = f
			if r.URL.Query().Has("sum") { // who is to know the hash computes it
				to = io.MultiWriter(f, sha256.New())
			}
			_, err = io.Copy(to, r.Body)
			err = errors.Join(err, f.Close())
		}
		if err != nil {
			http.Error(w, err.Error(), http.StatusInternalServerError)
		}
	})
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return err
	}
	template := &x509.Certificate{SerialNumber: big.NewInt(1), NotAfter: time.Now().Add(24 * time.Hour), DNSNames: []string{"localhost"}}
	der, err := x509.CreateCertificate(rand.Reader, template, template, key.Public(), key)
	if err != nil {
		return err
	}
	plain, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return err
	}
	secured, err := tls.Listen("tcp", "127.0.0.1:0", &tls.Config{Certificates: []tls.Certificate{{Certificate: [][]byte{der}, PrivateKey: key}}})
	if err != nil {
		return err
	}
	fmt.Println(plain.Addr(), secured.Addr())
	go http.Serve(plain, do)
	return http.Serve(secured, do)
}

// all sends the files of a folder one after the other, and nothing else.
func all(w http.ResponseWriter, folder string) {
	entries, err := os.ReadDir(folder)
	for _, entry := range entries {
		var f *os.File
		if f, err = os.Open(filepath.Join(folder, entry.Name())); err == nil {
			_, err = io.Copy(w, f)
			f.Close()
		}
		if err != nil {
			break
		}
	}
	if err != nil {
		panic(http.ErrAbortHandler)
	}
}

// zippedSize is the size of each file of an archive, bytes.
const zippedSize = 256 << 10

// makeMany makes the files of an archive, for both sides.
func (w *world) makeMany() error {
	text := make([]byte, zippedSize)
	if _, err := rand.Read(text); err != nil {
		return err
	}
	for _, folder := range []string{filepath.Join(w.dir, "webfloor", "zipped"), filepath.Join(w.store, "zipped")} {
		if err := os.Mkdir(folder, 0o755); err != nil {
			return err
		}
		for n := range fewObjects {
			if err := os.WriteFile(filepath.Join(folder, fmt.Sprintf("f%04d", n)), text, 0o644); err != nil {
				return err
			}
		}
	}
	return nil
}

func (w *world) needWeb() error {
	web := &w.web
	if web.floor != nil {
		return nil
	}
	self, err := os.Executable()
	if err != nil {
		return err
	}
	web.floor = exec.Command(self, "webfloor")
	web.floor.Env = append(os.Environ(), "FLOOR_FOLDER="+filepath.Join(w.dir, "webfloor"))
	if err := os.Mkdir(filepath.Join(w.dir, "webfloor"), 0o755); err != nil {
		return err
	}
	if err := os.Link(w.large, filepath.Join(w.dir, "webfloor", "large")); err != nil {
		return err
	}
	if err := w.makeMany(); err != nil {
		return err
	}
	out, err := web.floor.StdoutPipe()
	if err != nil {
		return err
	}
	if err := web.floor.Start(); err != nil {
		return err
	}
	line, err := bufio.NewReader(out).ReadString('\n')
	words := strings.Fields(line)
	if err != nil || len(words) != 2 {
		return fmt.Errorf("the floor did not start: %q: %w", line, err)
	}
	web.floorAt, web.floorTLS = "http://"+words[0]+"/", "https://"+words[1]+"/"
	text, err := exec.Command("bin/urbankeep", "listener", "add", "secure", "web", "127.0.0.1:0", "-faces", "portal", "-json", "-data", filepath.Join(w.dir, "data")).Output()
	if err != nil {
		return err
	}
	var secure struct{ Listening string }
	if err := json.Unmarshal(text, &secure); err != nil {
		return err
	}
	web.jar = filepath.Join(w.dir, "jar")
	for _, base := range []string{"http://" + w.ours.console, "https://" + secure.Listening} {
		sign := exec.Command("curl", "-sSkf", "-b", web.jar, "-c", web.jar, "-H", "Content-Type: application/json", "-d", `{"account": "crew", "password": "a password for the bench"}`, base+"/portal/api/v1/sign-in")
		if out, err := sign.CombinedOutput(); err != nil {
			return fmt.Errorf("sign in to the portal: %w: %s", err, out)
		}
	}
	web.ours, web.oursTLS = "http://"+w.ours.console+"/portal/files/", "https://"+secure.Listening+"/portal/files/"
	return nil
}

// page runs curl on a page that is so large; HTTP/1.1 is what both sides have in clear and over TLS.
func (w *world) page(mib int, at func() string, args ...string) (float64, error) {
	if err := w.needWeb(); err != nil {
		return 0, err
	}
	return timed(mib, func() error {
		out, err := exec.Command("curl", append(args, "-sSkf", "--http1.1", "-b", w.web.jar, "-o", os.DevNull, at())...).CombinedOutput()
		if err != nil {
			return fmt.Errorf("%w: %s", err, out)
		}
		return nil
	})
}

// sent is page for an upload of the large file; what came of it is removed again: a file that takes another's place is flushed by
// some file systems.
func (w *world) sent(at func() string, args ...string) (float64, error) {
	speed, err := w.page(w.mib, at, args...)
	for _, folder := range []string{filepath.Join(w.dir, "webfloor"), w.store} {
		if gone := os.Remove(filepath.Join(folder, "up")); !errors.Is(gone, os.ErrNotExist) {
			err = errors.Join(err, gone)
		}
	}
	return speed, err
}

func (w *world) webRows() []row {
	web, zipped := &w.web, max(1, fewObjects*zippedSize>>20)
	return []row{
		{name: "web download, 1 GiB", unit: "MiB/s", target: 0.95,
			ours:  func() (float64, error) { return w.page(w.mib, func() string { return web.ours + "large" }) },
			floor: func() (float64, error) { return w.page(w.mib, func() string { return web.floorAt + "large" }) }},
		{name: "web download over TLS, 1 GiB", unit: "MiB/s", target: 0.95,
			ours:  func() (float64, error) { return w.page(w.mib, func() string { return web.oursTLS + "large" }) },
			floor: func() (float64, error) { return w.page(w.mib, func() string { return web.floorTLS + "large" }) }},
		{name: "web upload, 1 GiB", unit: "MiB/s", target: 0.8,
			ours: func() (float64, error) { return w.sent(func() string { return web.ours + "up" }, "-T", w.large) },
			floor: func() (float64, error) {
				return w.sent(func() string { return web.floorAt + "up" }, "-T", w.large)
			}},
		{name: "web upload with its hash, 1 GiB", unit: "MiB/s", target: 0.8,
			ours: func() (float64, error) {
				return w.sent(func() string { return strings.TrimSuffix(web.ours, "files/") + "api/v1/uploads" }, append(w.announced(), "-X", "POST", "-T", w.large)...)
			},
			floor: func() (float64, error) {
				return w.sent(func() string { return web.floorAt + "up?sum" }, "-T", w.large)
			}},
		{name: "web download as ZIP, 1,000 files of 256 KiB", unit: "MiB/s", target: 0.8,
			ours: func() (float64, error) {
				return w.page(zipped, func() string { return strings.TrimSuffix(web.ours, "files/") + "zip?path=/zipped" })
			},
			floor: func() (float64, error) { return w.page(zipped, func() string { return web.floorAt + "all" }) }},
	}
}

// announced are the headers of an upload in one request (tus 1.0.0, creation-with-upload), with its size and its hash.
func (w *world) announced() []string {
	text, err := os.ReadFile(w.large)
	if err != nil {
		return nil
	}
	sum := sha256.Sum256(text)
	encode := base64.StdEncoding.EncodeToString
	return []string{"-H", "Tus-Resumable: 1.0.0", "-H", fmt.Sprintf("Upload-Length: %d", len(text)), "-H", "Content-Type: application/offset+octet-stream",
		"-H", "Upload-Metadata: path " + encode([]byte("/up")) + ",replace " + encode([]byte("yes")) + ",sha256 " + encode([]byte(hex.EncodeToString(sum[:])))}
}
