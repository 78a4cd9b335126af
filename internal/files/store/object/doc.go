// Package object reaches a bucket by the S3 protocol: signature 4, paths or hosts, parts, ranges, copies on the
// store's side. It needs nothing that only some stores know: no signed chunks, no conditions on writes.
package object
