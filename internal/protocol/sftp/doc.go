// Package sftp is the SFTP protocol, version 3, over SSH
// (draft-ietf-secsh-filexfer-02; RFC 4251 to 4254).
//
// It knows its wire and [Keeper], the little it asks of the house. Key exchange
// and ciphers are those of golang.org/x/crypto/ssh; files are reached through
// package tree. It knows no accounts, no SQL and no HTTP.
package sftp
