// Package store says what a place is in which bytes live: folders, the files in them, and what only
// some kinds of them can do. Each kind is a package below this one; package kinds opens them. It knows
// nothing of accounts, rights or protocols.
package store
