// Package handover writes the sheet for whoever will connect as an account: where, how to
// sign in, how to know the service, what is within reach, and commands that are ready to be
// run. There is no secret in it.
//
// It computes only: it must not know records, sockets or HTTP.
package handover
