// Package audit is the audit trail: records that are only ever added, each
// chained to the one before by SHA-256, written in batches, and walked again to
// prove that nothing was changed, removed or put in between.
//
// It knows the records of package keep and how to store them; it does not know
// what happened on any wire.
package audit
