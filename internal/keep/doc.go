// Package keep holds the rules of the house as pure values and functions:
// accounts, mounts, grants, rights, the decisions made from them and the
// reasons for those decisions, and the vocabulary of the audit trail.
//
// It does no input or output, starts no goroutine and reads no clock. It
// imports and knows nothing of this program. What enforcement uses is what is explained
// to people: a [Verdict] is both.
package keep
