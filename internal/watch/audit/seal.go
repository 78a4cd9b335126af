package audit

import (
	"bufio"
	"bytes"
	"crypto/ed25519"
	"crypto/rand"
	"crypto/sha256"
	"crypto/x509"
	"encoding/base64"
	"encoding/hex"
	"encoding/pem"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"time"

	"urbankeep/internal/records"
)

// Seal signs checkpoints: how far the trail had come, and with which digest. They
// stand in a file beside the records, so that a trail that was cut short, or replaced
// with another that hangs together, is found out.
type Seal struct {
	key  ed25519.PrivateKey
	file string

	mu   sync.Mutex
	last Checkpoint
}

// Checkpoint says that record Seq had this digest.
type Checkpoint struct {
	Seq       int64
	At        time.Time // UTC, to the second
	Digest    []byte
	Signature []byte // Ed25519 (RFC 8032) over the line without it
}

const (
	KeyFile            = "audit.key" // in the data folder
	checkpointsFile    = "audit.checkpoints"
	checkpointPrefix   = "urbankeep-checkpoint-1"
	checkpointRecords  = 1000             // a checkpoint comes after so many records,
	checkpointInterval = 10 * time.Minute // or after so long, if there is anything new
)

// OpenSeal reads the key in the data folder, or makes one.
func OpenSeal(dir string) (*Seal, error) {
	s := &Seal{file: filepath.Join(dir, checkpointsFile)}
	name := filepath.Join(dir, KeyFile)
	text, err := os.ReadFile(name)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		if err := s.makeKey(name); err != nil {
			return nil, fmt.Errorf("make the key of the audit trail: %w", err)
		}
	case err != nil:
		return nil, fmt.Errorf("read the key of the audit trail: %w", err)
	default:
		block, _ := pem.Decode(text)
		if block == nil {
			return nil, fmt.Errorf("%s holds no key: put back the one that was there, or remove it to begin with another", name)
		}
		parsed, err := x509.ParsePKCS8PrivateKey(block.Bytes)
		key, ok := parsed.(ed25519.PrivateKey)
		if err != nil || !ok {
			return nil, fmt.Errorf("%s holds no Ed25519 key: put back the one that was there", name)
		}
		s.key = key
	}
	if err := s.mend(); err != nil {
		return nil, fmt.Errorf("read the checkpoints of the audit trail: %w", err)
	}
	found, err := s.Checkpoints()
	if err == nil && len(found) > 0 {
		s.last = found[len(found)-1]
	}
	return s, nil // what is wrong with the checkpoints is for verifying to say
}

// mend takes off a last line that an end of the process left half written.
func (s *Seal) mend() error {
	text, err := os.ReadFile(s.file)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if whole := bytes.LastIndexByte(text, '\n') + 1; err == nil && whole < len(text) {
		err = os.Truncate(s.file, int64(whole))
	}
	return err
}

func (s *Seal) makeKey(name string) error {
	_, key, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		return err
	}
	der, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		return err
	}
	s.key = key
	return records.WriteFile(name, pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: der}))
}

// Fingerprint names the key: the SHA-256 of its public half, in hexadecimal.
func (s *Seal) Fingerprint() string {
	sum := sha256.Sum256(s.public())
	return hex.EncodeToString(sum[:])
}

func (s *Seal) public() ed25519.PublicKey { return s.key.Public().(ed25519.PublicKey) }

// due reports whether a checkpoint is to be made at a place.
func (s *Seal) due(seq int64, now time.Time) bool {
	if s == nil {
		return false
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	return seq > s.last.Seq && (seq/checkpointRecords > s.last.Seq/checkpointRecords || now.Sub(s.last.At) >= checkpointInterval)
}

// Sign writes a checkpoint.
func (s *Seal) Sign(seq int64, digest []byte, now time.Time) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	if seq <= s.last.Seq {
		return nil
	}
	c := Checkpoint{Seq: seq, At: now.UTC().Truncate(time.Second), Digest: digest}
	c.Signature = ed25519.Sign(s.key, []byte(c.body()))
	f, err := os.OpenFile(s.file, os.O_APPEND|os.O_CREATE|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	_, err = f.WriteString(c.String() + "\n")
	if err = errors.Join(err, f.Sync(), f.Close()); err == nil {
		s.last = c
	}
	return err
}

func (c Checkpoint) body() string {
	return fmt.Sprintf("%s %d %s %s", checkpointPrefix, c.Seq, c.At.Format(time.RFC3339), hex.EncodeToString(c.Digest))
}

// String is the checkpoint as one line, to be kept elsewhere.
func (c Checkpoint) String() string {
	return c.body() + " " + base64.StdEncoding.EncodeToString(c.Signature)
}

// ParseCheckpoint reads what String writes and makes sure that this seal signed it.
func (s *Seal) ParseCheckpoint(line string) (c Checkpoint, err error) {
	words := strings.Fields(line)
	if len(words) != 5 || words[0] != checkpointPrefix {
		return c, errors.New("that is no checkpoint: it is one line of five words, as audit checkpoint prints it")
	}
	var e1, e2, e3, e4 error
	c.Seq, e1 = strconv.ParseInt(words[1], 10, 64)
	c.At, e2 = time.Parse(time.RFC3339, words[2])
	c.Digest, e3 = hex.DecodeString(words[3])
	c.Signature, e4 = base64.StdEncoding.DecodeString(words[4])
	if err := errors.Join(e1, e2, e3, e4); err != nil {
		return c, fmt.Errorf("that is no checkpoint: %w", err)
	}
	if !ed25519.Verify(s.public(), []byte(c.body()), c.Signature) {
		return c, fmt.Errorf("the checkpoint of record %d was not signed with this service's key", c.Seq)
	}
	return c, nil
}

// Checkpoints reads all that were made, oldest first.
func (s *Seal) Checkpoints() ([]Checkpoint, error) {
	text, err := os.ReadFile(s.file)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	var found []Checkpoint
	for lines := bufio.NewScanner(bytes.NewReader(text)); lines.Scan(); {
		c, err := s.ParseCheckpoint(lines.Text())
		if err != nil {
			return found, err
		}
		found = append(found, c)
	}
	return found, nil
}

// Last is the newest checkpoint; its Seq is 0 when there is none.
func (s *Seal) Last() Checkpoint {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.last
}
