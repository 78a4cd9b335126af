package kinds

import (
	"context"
	"fmt"
	"net"
	"net/http"
	"os"
	"strings"
	"sync"
	"time"

	"golang.org/x/crypto/ssh"

	"urbankeep/internal/files/store"
	"urbankeep/internal/files/store/blob"
	"urbankeep/internal/files/store/bucket"
	"urbankeep/internal/files/store/object"
	"urbankeep/internal/files/store/remote"
	"urbankeep/internal/files/store/scratch"
	"urbankeep/internal/keep"
)

// uploadMemory is what all uploads to buckets hold at once, bytes.
const uploadMemory = 160 << 20

// maxSecret bounds a file with a secret, bytes.
const maxSecret = 4 << 10

// secretOf is the secret of a store, read where its settings say that it lies.
func secretOf(s keep.Store) (keep.Secret, error) {
	if name, is := strings.CutPrefix(s.Site.SecretFrom, keep.FromEnvironment); is {
		text := os.Getenv(name)
		if text == "" {
			return "", fmt.Errorf("the environment has no %s, which should hold its secret", name)
		}
		return keep.Secret(text), nil
	}
	if name, is := strings.CutPrefix(s.Site.SecretFrom, keep.FromFile); is {
		text, err := readBounded(name, maxSecret)
		if err != nil {
			return "", fmt.Errorf("the file with its secret can't be read: %w", err)
		}
		line, _, _ := strings.Cut(string(text), "\n")
		return keep.Secret(strings.TrimSuffix(line, "\r")), nil
	}
	return s.Secret, nil
}

// object opens a store in a bucket.
func (k *Stores) object(s keep.Store) (*backing, error) {
	secret, err := secretOf(s)
	if err != nil {
		return nil, err
	}
	transport := newTransport()
	d, err := object.Open(s.Site, secret, transport)
	if err != nil {
		return nil, err
	}
	return k.bucket(s, d, "", transport), nil
}

// blob opens a store in a container of blobs.
func (k *Stores) blob(s keep.Store) (*backing, error) {
	secret, err := secretOf(s)
	if err != nil {
		return nil, err
	}
	transport := newTransport()
	d, err := blob.Open(s.Site, secret, transport)
	if err != nil {
		return nil, err
	}
	return k.bucket(s, d, blob.Refuses, transport), nil
}

func (k *Stores) bucket(s keep.Store, d bucket.Driver, refuses string, transport *http.Transport) *backing {
	b := bucket.New(bucket.Setup{Driver: d, Store: s.Name, Prefix: s.Site.Prefix, Refuses: refuses, Memory: k.memory, Notes: k.spool(), Log: k.log,
		Scratch: func() (*scratch.File, error) { return k.scratch(k.spool()) }})
	open := &checked{s: s, open: func() (store.Folder, error) { return b.Root(), nil }}
	return &backing{root: open.root, stop: func() {
		b.Close()
		transport.CloseIdleConnections()
	}}
}

// checked opens a store's own folder, and holds it against its mark now and then: every sign-in asks, and
// the answer comes over the network.
type checked struct {
	s    keep.Store
	open func() (store.Folder, error)

	mu   sync.Mutex
	at   time.Time
	last error
}

// How long what was found holds.
const (
	fineFor = 15 * time.Second
	awayFor = 3 * time.Second
)

func (c *checked) root() (store.Folder, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.s.Mark != "" && (time.Since(c.at) > fineFor || c.last != nil && time.Since(c.at) > awayFor) {
		folder, err := c.open()
		if err == nil {
			err = store.Marked(c.s, folder, c.s.Where())
			folder.Close()
		} else {
			err = store.Away(c.s, err.Error())
		}
		c.last, c.at = err, time.Now()
	}
	if c.last != nil {
		return nil, c.last
	}
	return c.open()
}

// How long a connection to another service may take, and say nothing.
const (
	dialPatience  = 5 * time.Second
	quietPatience = 30 * time.Second
)

// newTransport is for calls to a service of objects: none of them waits without end.
func newTransport() *http.Transport {
	return &http.Transport{Proxy: http.ProxyFromEnvironment, MaxIdleConns: 64, MaxIdleConnsPerHost: 32, IdleConnTimeout: quietPatience, TLSHandshakeTimeout: dialPatience, ResponseHeaderTimeout: 2 * quietPatience,
		DisableCompression: true, WriteBufferSize: 256 << 10, ReadBufferSize: 256 << 10,
		DialContext: func(ctx context.Context, network, address string) (net.Conn, error) {
			conn, err := (&net.Dialer{Timeout: dialPatience}).DialContext(ctx, network, address)
			if err != nil {
				return nil, err
			}
			return &quiet{conn}, nil
		}}
}

// quiet is a connection that ends when nothing moves for too long.
type quiet struct{ net.Conn }

func (q *quiet) Read(b []byte) (int, error) {
	q.SetReadDeadline(time.Now().Add(2 * quietPatience))
	return q.Conn.Read(b)
}

func (q *quiet) Write(b []byte) (int, error) {
	q.SetWriteDeadline(time.Now().Add(quietPatience))
	return q.Conn.Write(b)
}

// remoteOf opens a store on another SFTP server.
func remoteOf(s keep.Store) (*backing, error) {
	secret, err := secretOf(s)
	if err != nil {
		return nil, err
	}
	var signer ssh.Signer
	if s.Site.KeyFile != "" {
		text, err := readBounded(s.Site.KeyFile, maxKeyFile)
		if err != nil {
			return nil, fmt.Errorf("the key can't be read: %w", err)
		}
		if signer, err = ssh.ParsePrivateKey(text); err != nil {
			return nil, fmt.Errorf("the key %s can't be used: %w", s.Site.KeyFile, err)
		}
		secret = ""
	}
	server := remote.New(s.Name, s.Site, secret, signer)
	open := &checked{s: s, open: func() (store.Folder, error) {
		if err := server.Reach(); err != nil {
			return nil, err
		}
		return server.Root(), nil
	}}
	return &backing{root: open.root, stop: server.Close}, nil
}

// maxKeyFile bounds a file with a private key, bytes.
const maxKeyFile = 64 << 10
