// Package sealed keeps files on a disk encrypted, each in the age format (age-encryption.org/v1), so that
// whoever has a key can open it with the public tool. It is laid over an open folder of the disk:
// what is listed and read is the contents, what lies there is not. Nothing of the contents ever touches
// the disk in clear.
package sealed
