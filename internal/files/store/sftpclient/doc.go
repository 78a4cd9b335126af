// Package sftpclient calls other SFTP servers (draft-ietf-secsh-filexfer-02, version 3, and the extensions of
// OpenSSH). Requests of several goroutines go over one channel at once.
package sftpclient
