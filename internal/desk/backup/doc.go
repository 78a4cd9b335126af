// Package backup writes everything a service knows into one file while it runs, and brings
// such a file back: the records, host keys, certificates, the key of the audit trail with
// its checkpoints, and archived records. The stored files of accounts are not in it.
//
// The file is a tar archive (POSIX.1-2001) packed by gzip (RFC 1952), its manifest last; where
// it is encrypted, by the age format (age-encryption.org/v1). Both can be opened without this
// program.
package backup
