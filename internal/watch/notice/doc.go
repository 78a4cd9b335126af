// Package notice tells receivers what happened: by web calls (CloudEvents 1.0, signed as the
// Standard Webhooks specification says) and by mail.
//
// The trail itself is the spool: what is kept is how far each receiver has come. Each has a
// line of its own, in which everything comes at least once and in order, so that one that is
// away costs neither the service nor the others anything. What is too old is set aside, is
// shown, and can be tried again.
//
// It must not know who makes notices, nor how the service is put together.
package notice
