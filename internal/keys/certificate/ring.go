package certificate

import (
	"cmp"
	"context"
	"crypto/tls"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"time"

	"urbankeep/internal/keep"
)

// Main is the name of the certificate that is always there: clients are shown it where no
// other fits.
const Main = "main"

// maxCertificates bounds how many there may be.
const maxCertificates = 100

// Settings remembers what certificates there are.
type Settings interface {
	Setting(ctx context.Context, name string) (string, error)
	SaveSetting(ctx context.Context, name, value string) error
}

const (
	ringSetting = "certificates"
	// Of the time when there was one certificate only:
	fileSetting = "certificate"
	keySetting  = "certificate key"
)

// Ring holds the certificates.
type Ring struct {
	settings Settings
	dir      string // the folder for certificates and keys of the service itself
	log      *slog.Logger
	// Ways says which challenges of an authority can be answered: by a plain web listener, by
	// one with TLS.
	Ways func() (plain, secure bool)
	// Told hears how a renewal ended.
	Told func(f Facts, err error)

	saving sync.Mutex // one change of what is remembered at a time
	mu     sync.Mutex
	all    []*Keeper       // Main first, then by name
	busy   map[string]bool // names whose certificates are being changed
	challenges
	wake chan struct{} // something is due earlier than was known
}

// plan is what is remembered of a certificate.
type plan struct {
	name  string
	files Files
	order *Order
}

// planRow is a plan as it is written.
type planRow struct {
	Name        string `json:"name"`
	Certificate string `json:"certificate,omitempty"` // "": in the data folder
	Key         string `json:"key,omitempty"`
	Order       *Order `json:"order,omitempty"`
}

// Open reads the certificates, making the main one for this machine where there is none.
func Open(ctx context.Context, settings Settings, dir string, log *slog.Logger) (*Ring, error) {
	r := &Ring{settings: settings, dir: filepath.Join(dir, "tls"), log: log, wake: make(chan struct{}, 1),
		Ways: func() (bool, bool) { return false, false }, Told: func(Facts, error) {}}
	text, err := settings.Setting(ctx, ringSetting)
	if err != nil {
		return nil, err
	}
	var rows []planRow
	if text != "" {
		if err := json.Unmarshal([]byte(text), &rows); err != nil {
			return nil, fmt.Errorf("read which certificates there are: %w", err)
		}
	} else {
		file, err1 := settings.Setting(ctx, fileSetting)
		key, err2 := settings.Setting(ctx, keySetting)
		if err := errors.Join(err1, err2); err != nil {
			return nil, err
		}
		rows = []planRow{{Name: Main, Certificate: file, Key: key}}
	}
	for _, row := range rows {
		k := r.keeper(row.Name)
		k.order = row.Order
		if row.Name == Main {
			if err := makeMissing(k.own, time.Now()); err != nil {
				return nil, fmt.Errorf("TLS certificate: %w", err)
			}
		}
		if err := k.open(row.Certificate, row.Key); err != nil {
			if row.Name == Main {
				return nil, err
			}
			log.Error("a certificate is left out", "name", row.Name, "cause", err)
			if err := makeMissing(k.own, time.Now()); err != nil || k.open("", "") != nil {
				continue
			}
			k.problem = "its file was gone, so a self-signed one takes its place"
		}
		r.all = append(r.all, k)
	}
	return r, nil
}

func (r *Ring) keeper(name string) *Keeper {
	file := name
	if name == Main {
		file = "certificate"
	}
	return &Keeper{ring: r, name: name, own: filepath.Join(r.dir, file+".pem"), log: r.log.With("certificate", name)}
}

// save remembers what certificates there are.
func (r *Ring) save(ctx context.Context) error {
	r.saving.Lock()
	defer r.saving.Unlock()
	rows := []planRow{}
	for _, k := range r.list() {
		k.mu.Lock()
		row := planRow{Name: k.name, Order: k.order}
		if k.files.Certificate != k.own {
			row.Certificate, row.Key = k.files.Certificate, k.files.Key
		}
		k.mu.Unlock()
		rows = append(rows, row)
	}
	text, err := json.Marshal(rows)
	if err != nil {
		return err
	}
	return r.settings.SaveSetting(ctx, ringSetting, string(text))
}

func (r *Ring) list() []*Keeper {
	r.mu.Lock()
	defer r.mu.Unlock()
	return slices.Clone(r.all)
}

// Main is the certificate that is shown where no other fits.
func (r *Ring) Main() *Keeper { return r.list()[0] }

// Named is a certificate; nil: there is none of that name.
func (r *Ring) Named(name string) *Keeper {
	for _, k := range r.list() {
		if k.name == cmp.Or(name, Main) {
			return k
		}
	}
	return nil
}

// Facts are those of all certificates.
func (r *Ring) Facts() []Facts {
	var all []Facts
	for _, k := range r.list() {
		all = append(all, k.Facts())
	}
	return all
}

// Put lets do change a certificate; one of a new name is made, and forgotten when do fails.
func (r *Ring) Put(ctx context.Context, name string, do func(*Keeper) error) (Facts, error) {
	name = cmp.Or(name, Main)
	if err := keep.CheckName("name", name); err != nil {
		return Facts{}, err
	}
	if name == "certificate" {
		return Facts{}, &keep.FieldError{Field: "name", Say: "the name is taken: choose another"}
	}
	done, err := r.begin(name)
	if err != nil {
		return Facts{}, err
	}
	defer done()
	if k := r.Named(name); k != nil {
		err := do(k)
		return k.Facts(), err
	}
	k := r.keeper(name)
	r.mu.Lock()
	if len(r.all) >= maxCertificates {
		r.mu.Unlock()
		return Facts{}, keep.Refuse(keep.BadRequest, fmt.Sprintf("there are %d certificates already: remove one first", maxCertificates))
	}
	r.mu.Unlock()
	// It joins the others only once it is there: nobody is shown what is not.
	text, err := selfSigned(time.Now(), "")
	if err == nil {
		err = write(k.own, text)
	}
	if err == nil {
		err = k.open("", "")
	}
	if err != nil {
		return Facts{}, err
	}
	k.joining = true
	if err := do(k); err != nil {
		r.drop(k)
		return Facts{}, errors.Join(err, os.Remove(k.own))
	}
	return k.Facts(), nil
}

// begin lets one change of a certificate go on at a time: getting one may take minutes.
func (r *Ring) begin(name string) (done func(), err error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.busy[name] {
		return nil, keep.Refuse(keep.InUse, "the certificate "+name+" is being changed at the moment: try again when that is done")
	}
	if r.busy == nil {
		r.busy = map[string]bool{}
	}
	r.busy[name] = true
	return func() {
		r.mu.Lock()
		defer r.mu.Unlock()
		delete(r.busy, name)
	}, nil
}

// join puts a new certificate among the others.
func (r *Ring) join(k *Keeper) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if k.joining {
		k.joining = false
		r.all = append(r.all, k)
		slices.SortFunc(r.all[1:], func(a, b *Keeper) int { return cmp.Compare(a.name, b.name) })
	}
}

func (r *Ring) drop(k *Keeper) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.all = slices.DeleteFunc(r.all, func(one *Keeper) bool { return one == k })
}

// Remove forgets a certificate, and its key where that is the service's.
func (r *Ring) Remove(ctx context.Context, name string) error {
	done, err := r.begin(name)
	if err != nil {
		return err
	}
	defer done()
	k := r.Named(name)
	switch {
	case k == nil:
		return keep.NoSuch("certificate", name)
	case k.name == Main:
		return keep.Refuse(keep.InUse, "the main certificate is always there: change it instead (certificate follow, import, acme or renew)")
	}
	r.drop(k)
	if err := r.save(ctx); err != nil {
		r.join(k)
		return err
	}
	if err := os.Remove(k.own); err != nil && !errors.Is(err, os.ErrNotExist) {
		r.log.Warn("the file of a certificate that was removed is still there", "file", k.own, "cause", err)
	}
	return nil
}

// For is the certificate that clients are shown who come to a host.
func (r *Ring) For(host string) *Keeper {
	shown, _ := r.Get(&tls.ClientHelloInfo{ServerName: host})
	for _, k := range r.list() {
		if k.current() == shown {
			return k
		}
	}
	return r.Main()
}

// Get chooses the certificate for a handshake: the one for the name that the client asks
// for (RFC 6066, section 3), else the main one.
func (r *Ring) Get(hello *tls.ClientHelloInfo) (*tls.Certificate, error) { return r.Choose("", hello) }

// Choose is Get for a listener that shows a certificate of its own, unless that is "".
func (r *Ring) Choose(name string, hello *tls.ClientHelloInfo) (*tls.Certificate, error) {
	if pair := r.challenged(hello); pair != nil {
		return pair, nil
	}
	all := r.list()
	if name != "" {
		for _, k := range all {
			if k.name == name {
				return k.current(), nil
			}
		}
	}
	var fits *tls.Certificate
	for _, k := range all {
		if hello.ServerName == "" {
			break
		}
		pair := k.current()
		// A self-signed one fits only where nothing else does.
		if pair.Leaf.VerifyHostname(hello.ServerName) == nil && (fits == nil || worse(fits, pair)) {
			fits = pair
		}
	}
	if fits == nil {
		fits = all[0].current()
	}
	return fits, nil
}

// worse reports whether clients would rather be shown b than a.
func worse(a, b *tls.Certificate) bool {
	now := time.Now()
	if over := now.After(a.Leaf.NotAfter); over != now.After(b.Leaf.NotAfter) {
		return over
	}
	alone := func(c *tls.Certificate) bool { return c.Leaf.CheckSignatureFrom(c.Leaf) == nil }
	return alone(a) && !alone(b)
}
