// Package dav speaks WebDAV (RFC 4918, classes 1, 2 and 3) over the tree of an account, with the quota of RFC 4331 and the
// privileges of RFC 3744. It keeps locks and dead properties by what a visit offers, and knows no records.
package dav
