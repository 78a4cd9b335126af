// Package metrics gives the service's figures to Prometheus: of its requests their rate,
// errors and duration, and of its resources how much is used, how much waits and what
// went wrong. The labels are from fixed sets: no name of an account, path or address is
// one, so that their number does not grow with what clients do.
//
// It only reads: the facts come from the audit trail as it is written, and from those
// who know when a scrape asks.
package metrics
