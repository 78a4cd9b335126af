// Package cli is the commands that administer a service. They speak to its API
// only: over the control socket in the data folder, or over HTTP with a token. They know
// nothing of the service itself: no records, no desk, no store.
package cli
