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

// Settings remembers where the files are.
type Settings interface {
	Setting(ctx context.Context, name string) (string, error)
	SaveSetting(ctx context.Context, name, value string) error
}

// The settings' names. Empty: the file in the data folder.
const (
	fileSetting = "certificate"
	keySetting  = "certificate key"
)

// recheck is how often the files are looked at, at most.
const recheck = time.Second

// Keeper gives the certificate, reading its files again when they change.
type Keeper struct {
	settings Settings
	own      string // the file in the data folder: certificate and key in one
	log      *slog.Logger

	mu      sync.Mutex
	files   Files
	pair    *tls.Certificate
	stamp   string // of the files as they were read
	checked time.Time
	problem string // why changed files are not used
}

// Files are where a certificate with its chain, and its key, are read as PEM;
// both may be in one file.
type Files struct{ Certificate, Key string }

// Open reads the certificate, making one for this machine where there is none.
// With files of somebody else's that can't be read, the service still starts:
// the own certificate is shown and the problem told.
func Open(ctx context.Context, settings Settings, dir string, log *slog.Logger) (*Keeper, error) {
	k := &Keeper{settings: settings, own: filepath.Join(dir, "tls", "certificate.pem"), log: log}
	if err := makeMissing(k.own, time.Now()); err != nil {
		return nil, fmt.Errorf("TLS certificate: %w", err)
	}
	file, err1 := settings.Setting(ctx, fileSetting)
	key, err2 := settings.Setting(ctx, keySetting)
	if err := errors.Join(err1, err2); err != nil {
		return nil, err
	}
	k.files = Files{k.own, k.own}
	if file != "" {
		k.files = Files{file, key}
	}
	pair, stamp, err := load(k.files)
	if err != nil && file != "" {
		k.problem = err.Error()
		log.Error("TLS certificate can't be read; the own one is shown", "cause", err)
		pair, _, err = load(Files{k.own, k.own})
	}
	if err != nil && pair != nil { // its own, which has ended: better shown than a service that does not start
		log.Error("TLS certificate has ended; clients will refuse it", "cause", err)
		err = nil
	}
	if err != nil {
		return nil, fmt.Errorf("TLS certificate: %w", err)
	}
	k.pair, k.stamp, k.checked = pair, stamp, time.Now()
	return k, nil
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

// Get gives the certificate for a handshake.
func (k *Keeper) Get(*tls.ClientHelloInfo) (*tls.Certificate, error) { return k.current(), nil }

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
	Files       Files
	Own         bool // in the data folder
	SelfSigned  bool
	Names       []string // host names and IP addresses
	Issuer      string
	Chain       int // certificates, with the leaf
	From, Until time.Time
	Fingerprint string // SHA-256, in hex with colons
	Problem     string // why changed files are not used
}

// Facts reads them.
func (k *Keeper) Facts() Facts {
	pair := k.current()
	k.mu.Lock()
	defer k.mu.Unlock()
	leaf := pair.Leaf
	f := Facts{Files: k.files, Own: k.files.Certificate == k.own, SelfSigned: leaf.CheckSignatureFrom(leaf) == nil, Issuer: leaf.Issuer.String(), Names: []string{},
		Chain: len(pair.Certificate), From: leaf.NotBefore.UTC(), Until: leaf.NotAfter.UTC(), Fingerprint: fingerprint(leaf), Problem: k.problem}
	f.Names = append(f.Names, leaf.DNSNames...)
	for _, ip := range leaf.IPAddresses {
		f.Names = append(f.Names, ip.String())
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
	return k.use(ctx, f, pair, stamp)
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
	if err := write(k.own, []byte(both)); err != nil {
		return err
	}
	return k.useOwn(ctx)
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
	if err := write(k.own, text); err != nil {
		return err
	}
	return k.useOwn(ctx)
}

func (k *Keeper) useOwn(ctx context.Context) error {
	f := Files{k.own, k.own}
	pair, stamp, err := load(f)
	if err != nil {
		return asField(err)
	}
	return k.use(ctx, f, pair, stamp)
}

func (k *Keeper) use(ctx context.Context, f Files, pair *tls.Certificate, stamp string) error {
	file, key := f.Certificate, f.Key
	if file == k.own {
		file, key = "", ""
	}
	if err := errors.Join(k.settings.SaveSetting(ctx, fileSetting, file), k.settings.SaveSetting(ctx, keySetting, key)); err != nil {
		return err
	}
	k.mu.Lock()
	defer k.mu.Unlock()
	k.files, k.pair, k.stamp, k.problem = f, pair, stamp, ""
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
