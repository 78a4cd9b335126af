// Package certificate keeps the TLS certificates that clients are shown: made at first start, read
// from files that somebody renews, or got from an authority and renewed by the package itself. It
// knows no protocol but ACME (RFC 8555) and no operator.
package certificate
