// Package certificate keeps the TLS certificate that FTP clients are shown: made
// at first start, or read from files that somebody renews. It knows no protocol
// and no operator.
package certificate
