// Package directory asks an LDAP directory (RFC 4511) who somebody is: it searches for the entry of a name and binds as it.
//
// It knows what a directory answers, no accounts and no records.
package directory
