package certificate

import (
	"context"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"encoding/pem"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"os"
	"os/user"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"urbankeep/internal/keep"
)

// recheck is how often the files are looked at, at most.
const recheck = time.Second

// Keeper gives one certificate, reading its files again when they change.
type Keeper struct {
	ring *Ring
	name string
	own  string // the file in the data folder: certificate and key in one
	log  *slog.Logger

	mu      sync.Mutex
	files   Files
	order   *Order // how it is got from an authority; nil: it is not
	pair    *tls.Certificate
	stamp   string // of the files as they were read
	checked time.Time
	problem string // why changed files are not used
	renewal renewal
	joining bool // it is not among the others yet; of the ring's mu
}

// Files are where a certificate with its chain, and its key, are read as PEM;
// both may be in one file.
type Files struct{ Certificate, Key string }

// open reads the certificate. With files of somebody else's that can't be read, the service
// still starts: the own certificate is shown and the problem told.
func (k *Keeper) open(file, key string) error {
	k.files = Files{k.own, k.own}
	if file != "" {
		k.files = Files{file, key}
	}
	pair, stamp, err := load(k.files)
	if err != nil && file != "" {
		k.problem = err.Error()
		k.log.Error("TLS certificate can't be read; the own one is shown", "cause", err)
		if merr := makeMissing(k.own, time.Now()); merr != nil {
			return fmt.Errorf("TLS certificate %s: %w", k.name, merr)
		}
		pair, _, err = load(Files{k.own, k.own})
	}
	if err != nil && pair != nil { // its own, which has ended: better shown than a service that does not start
		k.log.Error("TLS certificate has ended; clients will refuse it", "cause", err)
		err = nil
	}
	if err != nil {
		return fmt.Errorf("TLS certificate %s: %w", k.name, err)
	}
	k.pair, k.stamp, k.checked = pair, stamp, time.Now()
	return nil
}

// stampOf tells one state of the files from another.
func stampOf(f Files) string {
	stamp := ""
	for _, name := range []string{f.Certificate, f.Key} {
		if info, err := os.Stat(name); err == nil {
			stamp += fmt.Sprint(info.ModTime().UnixNano(), info.Size(), " ")
		}
	}
	return stamp
}

func load(f Files) (*tls.Certificate, string, error) {
	stamp := stampOf(f)
	text, err := readPlain(f.Certificate)
	if err != nil {
		return nil, stamp, fmt.Errorf("%w: %w", errNoCertificate, err)
	}
	key, err := readPlain(f.Key)
	if err != nil {
		return nil, stamp, fmt.Errorf("%w: %w", errNoCertificate, err)
	}
	pair, err := parse(text, key)
	if err != nil {
		return nil, stamp, fmt.Errorf("%w: %w", errNoCertificate, err)
	}
	return pair, stamp, stillGood(pair)
}

// errNoCertificate says that what the files hold is no certificate with its key.
var errNoCertificate = errors.New("there is no certificate with its key")

// maxFile bounds a file of a certificate or a key, bytes.
const maxFile = 1 << 20

// readPlain reads a plain file of bounded size; nothing makes it wait.
func readPlain(name string) ([]byte, error) {
	f, err := os.OpenFile(name, os.O_RDONLY|noWait, 0)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return nil, err
	}
	if !info.Mode().IsRegular() || info.Size() > maxFile {
		return nil, fmt.Errorf("%s is no plain file of at most %d bytes", name, maxFile)
	}
	return io.ReadAll(io.LimitReader(f, maxFile))
}

// parse reads a certificate and its key. What is wrong is a [*keep.FieldError].
func parse(text, key []byte) (*tls.Certificate, error) {
	pair, err := tls.X509KeyPair(text, key)
	if err != nil {
		return nil, &keep.FieldError{Field: "certificate", Say: strings.TrimPrefix(err.Error(), "tls: ") +
			": give the certificate with its chain, and the key that belongs to it, in PEM form"}
	}
	return &pair, nil
}

// stillGood refuses a certificate whose time has ended, as a [*keep.FieldError].
func stillGood(pair *tls.Certificate) error {
	if !time.Now().Before(pair.Leaf.NotAfter) {
		return &keep.FieldError{Field: "certificate", Say: "it expired on " + pair.Leaf.NotAfter.UTC().Format(time.DateOnly) + ": give one that is valid"}
	}
	return nil
}

func (k *Keeper) current() *tls.Certificate {
	k.mu.Lock()
	defer k.mu.Unlock()
	if time.Since(k.checked) < recheck {
		return k.pair
	}
	k.checked = time.Now()
	if stampOf(k.files) == k.stamp {
		return k.pair
	}
	pair, stamp, err := load(k.files)
	k.stamp = stamp
	if err != nil {
		k.problem = err.Error()
		k.log.Error("changed TLS certificate can't be used; the one before it is shown", "cause", err)
		return k.pair
	}
	k.pair, k.problem = pair, ""
	k.log.Info("TLS certificate read again", "until", pair.Leaf.NotAfter)
	return k.pair
}

// Facts are what operators and the people who connect should know of it.
type Facts struct {
	Name        string
	Files       Files
	Own         bool // in the data folder
	SelfSigned  bool
	Names       []string // host names and IP addresses
	Issuer      string
	Chain       int // certificates, with the leaf
	From, Until time.Time
	Fingerprint string // SHA-256, in hex with colons
	Problem     string // why changed files are not used
	Order       *Order // how it is got from an authority; nil: it is not
	Next        time.Time
	Failed      int    // renewals that failed, one after the other
	Failure     string // why the last one did
}

// Facts reads them.
func (k *Keeper) Facts() Facts {
	pair := k.current()
	k.mu.Lock()
	defer k.mu.Unlock()
	leaf := pair.Leaf
	f := Facts{Name: k.name, Files: k.files, Own: k.files.Certificate == k.own, SelfSigned: leaf.CheckSignatureFrom(leaf) == nil, Issuer: leaf.Issuer.String(), Names: []string{},
		Chain: len(pair.Certificate), From: leaf.NotBefore.UTC(), Until: leaf.NotAfter.UTC(), Fingerprint: fingerprint(leaf), Problem: k.problem}
	f.Names = append(f.Names, leaf.DNSNames...)
	for _, ip := range leaf.IPAddresses {
		f.Names = append(f.Names, ip.String())
	}
	if k.order != nil {
		order := *k.order
		order.MAC = ""
		f.Order, f.Next, f.Failed, f.Failure = &order, k.due(leaf).UTC(), k.renewal.failed, k.renewal.failure
	}
	return f
}

func fingerprint(c *x509.Certificate) string {
	sum := sha256.Sum256(c.Raw)
	return strings.ReplaceAll(strings.ToUpper(fmt.Sprintf("% x", sum)), " ", ":")
}

// Follow uses files of somebody else's from now on, and whatever they become.
func (k *Keeper) Follow(ctx context.Context, f Files) error {
	if f.Key == "" {
		f.Key = f.Certificate
	}
	for _, name := range []string{f.Certificate, f.Key} {
		if !filepath.IsAbs(name) {
			return &keep.FieldError{Field: "certificate", Say: fmt.Sprintf("%q is not the whole path of a file on the service's machine", name)}
		}
	}
	pair, stamp, err := load(f)
	if err != nil && !errors.Is(err, errNoCertificate) {
		return asField(err)
	}
	if err != nil { // in the same words whatever is there: nobody is to learn what kind of file it is
		k.log.Warn("a certificate can't be followed", "cause", err)
		return &keep.FieldError{Field: "certificate", Say: "the files can't be used: they must be plain files of at most 1 MiB that " + serviceUser() + " can read (and go through their folders: setfacl -m u:" + serviceUser() + ":r FILE grants it), a certificate and the key that belongs to it, in PEM form; the log says more"}
	}
	return k.use(ctx, f, pair, stamp, nil)
}

// Store keeps a certificate and its key in the data folder and uses them.
func (k *Keeper) Store(ctx context.Context, text, key keep.Secret) error {
	if key == "" {
		key = text
	}
	pair, err := parse([]byte(text.Reveal()), []byte(key.Reveal()))
	if err == nil {
		err = stillGood(pair)
	}
	if err != nil {
		return err
	}
	both := text.Reveal()
	if key != text {
		both += "\n" + key.Reveal()
	}
	return k.replace(ctx, []byte(both), nil)
}

// PEM is the certificate as text, without the rest of its chain and without its key.
func (k *Keeper) PEM() string {
	return string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: k.current().Leaf.Raw}))
}

// Covers reports whether the certificate is for a host name or IP address (RFC 6125).
func (k *Keeper) Covers(host string) bool { return k.current().Leaf.VerifyHostname(host) == nil }

// Renew makes a new self-signed certificate, for this machine and a host name or address
// ("" for none more), and uses it.
func (k *Keeper) Renew(ctx context.Context, host string) error {
	text, err := selfSigned(time.Now(), host)
	if err != nil {
		return err
	}
	return k.replace(ctx, text, nil)
}

// replace keeps another certificate with its key in the data folder and uses it.
func (k *Keeper) replace(ctx context.Context, text []byte, order *Order) error {
	if err := write(k.own, text); err != nil {
		return err
	}
	f := Files{k.own, k.own}
	pair, stamp, err := load(f)
	if err != nil {
		return asField(err)
	}
	return k.use(ctx, f, pair, stamp, order)
}

func (k *Keeper) use(ctx context.Context, f Files, pair *tls.Certificate, stamp string, order *Order) error {
	k.mu.Lock()
	before := plan{k.name, k.files, k.order}
	k.files, k.order = f, order
	k.mu.Unlock()
	k.ring.join(k)
	if err := k.ring.save(ctx); err != nil {
		k.mu.Lock()
		defer k.mu.Unlock()
		k.files, k.order = before.files, before.order
		return err
	}
	k.mu.Lock()
	defer k.mu.Unlock()
	k.pair, k.stamp, k.problem, k.renewal = pair, stamp, "", renewal{}
	return nil
}

func asField(err error) error {
	var field *keep.FieldError
	if errors.As(err, &field) {
		return err
	}
	return &keep.FieldError{Field: "certificate", Say: err.Error()}
}

// serviceUser is the name of the user that the service runs as.
func serviceUser() string {
	if me, err := user.Current(); err == nil {
		return me.Username
	}
	return "the user of the service"
}
