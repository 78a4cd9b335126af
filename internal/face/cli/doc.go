// Package cli is the commands that administer a service. They speak to its API
// only: over the control socket in the data folder, or over HTTP with a token.
package cli
