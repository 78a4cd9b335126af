// Package ftp is the FTP protocol, with and without TLS: commands, replies and
// data connections (RFC 959, 1123, 2228, 2389, 2428, 2577, 2640, 3659, 4217).
//
// It knows its wire and [Keeper], the little it asks of the house. Files are
// reached through package tree. It knows no accounts, no SQL and no HTTP.
package ftp
