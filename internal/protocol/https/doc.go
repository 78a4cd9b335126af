// Package https is HTTP on one listener, with TLS or without: who may connect, from where a
// request really comes, which host names it may name, and what a client may make it hold. It knows
// no page, no account and no records.
package https
