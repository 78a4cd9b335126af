// Package store is where bytes live: for now folders on disk. It knows nothing
// of accounts, rights or protocols.
package store
