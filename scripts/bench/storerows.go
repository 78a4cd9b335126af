package main

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"filippo.io/age"
	"github.com/minio/minio-go/v7"
	"github.com/minio/minio-go/v7/pkg/credentials"

	"urbankeep/internal/demo"
)

// The bucket that rows of object stores use, of the stand-in.
const (
	bucket    = "bench"
	bucketKey = "bench"
	slowly    = "slow/" // below this prefix the stand-in takes its time for each part
	slowPart  = 300 * time.Millisecond
)

// elsewhere is what rows about other kinds of stores need; empty until it is.
type elsewhere struct {
	objects *exec.Cmd
	bare    *minio.Client
	key     *age.X25519Identity
	listed  bool
	sealed  string // folder of the sealed store
}

// serveObjects is the stand-in of an object store, in a process of its own.
func serveObjects() error {
	s, err := demo.OpenObjectStore(os.Getenv("OBJECTS_FOLDER"), bucket, bucketKey)
	if err != nil {
		return err
	}
	s.Before = func(r *http.Request) *demo.ObjectFault {
		if strings.HasPrefix(r.URL.Path, "/"+bucket+"/"+slowly) && r.URL.Query().Has("partNumber") {
			time.Sleep(slowPart)
		}
		return nil
	}
	at, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return err
	}
	fmt.Println(at.Addr())
	return http.Serve(at, s)
}

func (w *world) needElsewhere() (err error) {
	e := &w.elsewhere
	if e.objects != nil {
		return nil
	}
	self, err := os.Executable()
	if err != nil {
		return err
	}
	e.objects = exec.Command(self, "objects")
	e.objects.Env = append(os.Environ(), "OBJECTS_FOLDER="+filepath.Join(w.dir, "objects"))
	out, err := e.objects.StdoutPipe()
	if err != nil {
		return err
	}
	if err := e.objects.Start(); err != nil {
		return err
	}
	at, err := bufio.NewReader(out).ReadString('\n')
	if err != nil {
		return fmt.Errorf("the object store did not start: %w", err)
	}
	at = strings.TrimSpace(at)
	if e.bare, err = minio.New(at, &minio.Options{Creds: credentials.NewStaticV4(bucketKey, "secret", ""), Region: "us-east-1", BucketLookup: minio.BucketLookupPath}); err != nil {
		return err
	}
	if e.key, err = age.GenerateX25519Identity(); err != nil {
		return err
	}
	if e.sealed, err = os.MkdirTemp("", "bench"); err != nil { // no store may lie in /dev
		return err
	}
	for _, one := range []struct {
		stdin string
		args  []string
	}{
		{"", []string{"store", "add", "safe", e.sealed, "-kind", "sealed"}},
		{"secret\n", []string{"store", "add", "cloud", "-kind", "object", "-endpoint", "http://" + at, "-bucket", bucket, "-user", bucketKey}},
		{"", []string{"store", "set", "safe", "-durability", "process"}},
		{"", []string{"store", "set", "cloud", "-durability", "process"}},
		{password + "\n", []string{"account", "add", "safe", "-home", "safe:safe", "-password", "-encryption=optional"}},
		{password + "\n", []string{"account", "add", "cloud", "-home", "cloud:/", "-password", "-encryption=optional"}},
	} {
		run := exec.Command("bin/urbankeep", append(one.args, "-data", filepath.Join(w.dir, "data"))...)
		run.Stdin = strings.NewReader(one.stdin)
		if out, err := run.CombinedOutput(); err != nil {
			return fmt.Errorf("%v: %w: %s", one.args, err, out)
		}
	}
	return nil
}

// as runs curl on a path of our plain FTP.
func (w *world) as(account, path string, args ...string) error {
	if err := w.needElsewhere(); err != nil {
		return err
	}
	run := exec.Command("curl", append([]string{"-sS", "--user", account + ":" + password, "ftp://" + w.oursAt["ftp"] + path}, args...)...)
	if out, err := run.CombinedOutput(); err != nil {
		return fmt.Errorf("%w: %s", err, out)
	}
	return nil
}

func (w *world) storeRows() []row {
	mib, ctx := w.mib, context.Background()
	options := minio.PutObjectOptions{SendContentMd5: true, DisableContentSha256: true}
	return []row{
		{name: "sealed upload, 1 GiB", unit: "MiB/s", target: 0.9,
			ours: func() (float64, error) {
				return timed(mib, func() error { return w.as("safe", "/large", "-T", w.large) })
			},
			floor: func() (float64, error) {
				return timed(mib, func() error { return errors.Join(w.as("crew", "/up", "-T", w.large), w.sealBare()) })
			}},
		{name: "sealed download, 1 GiB", unit: "MiB/s", target: 0.9,
			ours: func() (float64, error) {
				return w.thenTimed(func() error { return w.as("safe", "/large", "-T", w.large) }, func() error { return w.as("safe", "/large", "-o", os.DevNull) })
			},
			floor: func() (float64, error) {
				return w.thenTimed(w.sealBare, func() error { return errors.Join(w.as("crew", "/large", "-o", os.DevNull), w.openBare()) })
			}},
		{name: "object upload, 1 GiB", unit: "MiB/s", target: 0.9,
			ours: func() (float64, error) {
				return timed(mib, func() error { return w.as("cloud", "/large", "-T", w.large) })
			},
			floor: func() (float64, error) {
				if err := w.needElsewhere(); err != nil {
					return 0, err
				}
				return timed(mib, func() error {
					_, err := w.elsewhere.bare.FPutObject(ctx, bucket, "bare", w.large, options)
					return err
				})
			}},
		{name: "object download, 1 GiB", unit: "MiB/s", target: 0.9,
			ours: func() (float64, error) {
				return w.thenTimed(func() error { return w.as("cloud", "/large", "-T", w.large) }, func() error { return w.as("cloud", "/large", "-o", os.DevNull) })
			},
			floor: func() (float64, error) {
				return w.thenTimed(func() error { return w.as("cloud", "/large", "-T", w.large) }, func() error {
					o, err := w.elsewhere.bare.GetObject(ctx, bucket, "large", minio.GetObjectOptions{})
					if err == nil {
						_, err = io.Copy(io.Discard, o)
					}
					return err
				})
			}},
		{name: "object upload, 1,000 files of 4 KiB", unit: "files/s",
			ours: func() (float64, error) {
				folder := w.fresh("/small")
				return timed(fewObjects, func() error { return w.asMany("cloud", folder) })
			},
			floor: func() (float64, error) {
				if err := w.needElsewhere(); err != nil {
					return 0, err
				}
				prefix := w.fresh("bare")
				return timed(fewObjects, func() error {
					for n := range fewObjects {
						if _, err := w.elsewhere.bare.PutObject(ctx, bucket, fmt.Sprintf("%s/%d", prefix, n), bytes.NewReader(make([]byte, smallSize)), smallSize, options); err != nil {
							return err
						}
					}
					return nil
				})
			}},
		{name: "object MLSD, 100,000 entries", unit: "entries/s", target: 0.8,
			ours: func() (float64, error) {
				if err := w.needListed(); err != nil {
					return 0, err
				}
				return timed(entries, func() error { return w.as("cloud", "/many/", "-X", "MLSD", "-o", os.DevNull) })
			},
			floor: func() (float64, error) {
				if err := w.needListed(); err != nil {
					return 0, err
				}
				return timed(entries, func() error {
					n := 0
					for o := range w.elsewhere.bare.ListObjects(ctx, bucket, minio.ListObjectsOptions{Prefix: "many/"}) {
						if o.Err != nil {
							return o.Err
						}
						n++
					}
					if n < entries {
						return fmt.Errorf("%d of %d objects were listed", n, entries)
					}
					return nil
				})
			}},
		{name: "memory of 20 uploads to a slow bucket", unit: "MiB", less: true, most: 400, turns: 1, ours: w.uploadMemory, floor: func() (float64, error) {
			now, err := resident(w.ours.run.Process.Pid)
			return now / 1024, err
		}},
	}
}

// thenTimed prepares something, and times what comes then.
func (w *world) thenTimed(first, then func() error) (float64, error) {
	if err := w.needElsewhere(); err != nil {
		return 0, err
	}
	if err := first(); err != nil {
		return 0, err
	}
	return timed(w.mib, then)
}

// sealBare encrypts the large file with nothing but the library; openBare decrypts it.
func (w *world) sealBare() error {
	if err := w.needElsewhere(); err != nil {
		return err
	}
	in, err := os.Open(w.large)
	if err != nil {
		return err
	}
	defer in.Close()
	out, err := os.Create(filepath.Join(w.elsewhere.sealed, "bare.age"))
	if err != nil {
		return err
	}
	defer out.Close()
	buffer := bufio.NewWriterSize(out, 256<<10)
	seal, err := age.Encrypt(buffer, w.elsewhere.key.Recipient())
	if err != nil {
		return err
	}
	_, err = io.Copy(seal, in)
	return errors.Join(err, seal.Close(), buffer.Flush())
}

func (w *world) openBare() error {
	in, err := os.Open(filepath.Join(w.elsewhere.sealed, "bare.age"))
	if err != nil {
		return err
	}
	defer in.Close()
	plain, err := age.Decrypt(in, w.elsewhere.key)
	if err == nil {
		_, err = io.Copy(io.Discard, plain)
	}
	return err
}

// asMany uploads small files in one session.
func (w *world) asMany(account, folder string) error {
	if err := w.needElsewhere(); err != nil {
		return err
	}
	if err := w.makeSmall(); err != nil {
		return err
	}
	names, err := filepath.Glob(filepath.Join(w.small, "*"))
	if err != nil {
		return err
	}
	lines := []string{"open -u " + account + ",\"" + password + "\" ftp://" + w.oursAt["ftp"], "mkdir " + folder, "cd " + folder, "mput " + strings.Join(names[:fewObjects], " ")}
	out, err := exec.Command("lftp", "-c", "set ftp:ssl-allow no; set cmd:fail-exit yes; "+strings.Join(lines, "; ")).CombinedOutput()
	if err != nil {
		return fmt.Errorf("%w: %s", err, out)
	}
	return nil
}

// needListed fills a folder of the bucket.
func (w *world) needListed() error {
	if err := w.needElsewhere(); err != nil || w.elsewhere.listed {
		return err
	}
	w.elsewhere.listed = true
	numbers := make(chan int)
	var work sync.WaitGroup
	var mu sync.Mutex
	var errs []error
	for range 8 {
		work.Go(func() {
			for n := range numbers {
				if _, err := w.elsewhere.bare.PutObject(context.Background(), bucket, fmt.Sprintf("many/entry-%06d", n), strings.NewReader(""), 0, minio.PutObjectOptions{}); err != nil {
					mu.Lock()
					errs = append(errs, err)
					mu.Unlock()
				}
			}
		})
	}
	for n := range entries {
		numbers <- n
	}
	close(numbers)
	work.Wait()
	return errors.Join(errs...)
}

// uploadMemory is the most that the service holds while 20 uploads go to a bucket that is slower than they, MiB.
func (w *world) uploadMemory() (float64, error) {
	if err := w.needElsewhere(); err != nil {
		return 0, err
	}
	if err := w.as("cloud", "/", "-Q", "-*MKD "+strings.TrimSuffix(slowly, "/"), "--list-only", "-o", os.DevNull); err != nil {
		return 0, err
	}
	file := filepath.Join(w.dir, "piece")
	if err := writeLarge(file, max(w.mib/16, 12)); err != nil {
		return 0, err
	}
	stop := make(chan struct{})
	most := make(chan float64)
	go func() {
		top := 0.0
		for {
			if now, err := resident(w.ours.run.Process.Pid); err == nil {
				top = max(top, now/1024)
			}
			select {
			case <-stop:
				most <- top
				return
			case <-time.After(20 * time.Millisecond):
			}
		}
	}()
	var work sync.WaitGroup
	errs := make([]error, 20)
	for n := range errs {
		work.Go(func() { errs[n] = w.as("cloud", fmt.Sprintf("/%s%d", slowly, n), "-T", file) })
	}
	work.Wait()
	close(stop)
	return <-most, errors.Join(errs...)
}
