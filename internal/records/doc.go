// Package records keeps what the service must remember in SQLite: stores,
// listeners, accounts, keys, operators and the audit trail, one file of this
// package per kind. It knows SQL and the shapes of package keep; it decides
// nothing, and knows no protocol and no HTTP.
//
// The data folder belongs to one process at a time. Writes go through one
// connection, reads through several; the journal is SQLite's write-ahead log.
package records
