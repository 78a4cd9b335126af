package testkit

import (
	"bytes"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"strconv"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urbankeep/internal/api"
)

// Transfers are those that the service lists, newest first.
func (k *Keep) Transfers(args ...string) []api.Transfer {
	var found []api.Transfer
	k.Must(&found, append([]string{"transfer", "list"}, args...)...)
	return found
}

// OnDisk is what a file holds.
func OnDisk(t *testing.T, file string) []byte {
	t.Helper()
	text, err := os.ReadFile(file)
	require.NoError(t, err)
	return text
}

// FreeAddress is an address on which nobody listens, and which no client gets from the system meanwhile.
func FreeAddress(t *testing.T) string {
	return net.JoinHostPort("127.0.0.1", strconv.Itoa(FreePorts(t)))
}

// Refused runs a command that has to fail, and gives what it says.
func (k *Keep) Refused(args ...string) string {
	k.t.Helper()
	_, errs, status := k.CLI(args...)
	require.Equal(k.t, 1, status, errs)
	return errs
}

// NewCertificate makes a self-signed pair of files with the real tool.
func NewCertificate(t *testing.T, dir, name string) (file, key string) {
	file, key = filepath.Join(dir, "c.pem"), filepath.Join(dir, "k.pem")
	out, err := Run(t, "", "openssl", "req", "-x509", "-newkey", "ec", "-pkeyopt", "ec_paramgen_curve:P-256", "-nodes", "-days", "30",
		"-subj", "/CN="+name, "-addext", "subjectAltName=DNS:"+name, "-out", file, "-keyout", key)
	require.NoError(t, err, out)
	return file, key
}

// Survey makes a folder with files of several sizes and awkward names.
func Survey(t *testing.T) string {
	dir := t.TempDir()
	for n := range 12 {
		name := filepath.Join(dir, fmt.Sprint("day ", n%3), fmt.Sprintf("scan-%02d é.las", n))
		require.NoError(t, os.MkdirAll(filepath.Dir(name), 0o755))
		require.NoError(t, os.WriteFile(name, bytes.Repeat([]byte{byte(n), '\n', '\r'}, n*n*1500), 0o644))
	}
	return dir
}

// Keygen runs ssh-keygen.
func Keygen(t *testing.T, args ...string) string {
	out, err := Run(t, "", "ssh-keygen", args...)
	require.NoError(t, err, out)
	return out
}

// NewPair makes a key pair with the real tool and gives the private half's file.
func NewPair(t *testing.T, kind ...string) string {
	pair := filepath.Join(t.TempDir(), "pair")
	Keygen(t, append([]string{"-q", "-t", "ed25519", "-N", "", "-f", pair}, kind...)...)
	return pair
}

// NewPublic makes a pair with the real tool and gives the text of its public half.
func NewPublic(t *testing.T) string {
	return string(OnDisk(t, NewPair(t)+".pub"))
}

// SFTPWith runs the real client with a key ("" for none), [Password] where
// asked, and more options. It says whether the account got in.
func (k *Keep) SFTPWith(account, key string, options ...string) bool {
	t := k.t
	ask := filepath.Join(t.TempDir(), "ask")
	require.NoError(t, os.WriteFile(ask, []byte("#!/bin/sh\necho '"+Password+"'\n"), 0o700))
	if key == "" {
		key = os.DevNull
	}
	args := []string{"SSH_ASKPASS=" + ask, "SSH_ASKPASS_REQUIRE=force", "sftp", "-o", "BatchMode=no", "-o", "NumberOfPasswordPrompts=1"}
	args = append(append(args, options...), k.SSHOptions(key)...)
	out, err := Run(t, "pwd\n", "env", append(args, account+"@127.0.0.1")...)
	if err == nil {
		assert.Contains(t, out, "Remote working directory: /")
	}
	return err == nil
}

// AddOperator adds an operator with [Password].
func (k *Keep) AddOperator(name, role string) {
	k.t.Helper()
	_, errs, status := k.CLIWith(Password+"\n", "operator", "add", name, "-role", role)
	require.Zero(k.t, status, errs)
}

// NewestChange is the newest change of a kind in the history.
func (k *Keep) NewestChange(what string) api.Change {
	k.t.Helper()
	var found []api.Change
	k.Must(&found, "history", "-what", what, "-most", "1")
	require.Len(k.t, found, 1)
	return found[0]
}
