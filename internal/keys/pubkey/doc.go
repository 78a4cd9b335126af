// Package pubkey reads SSH public keys in every form that people have them in,
// says what is wrong with one, and makes key pairs. It knows no account and
// keeps nothing.
package pubkey
