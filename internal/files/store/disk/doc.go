// Package disk keeps the bytes of a store in a folder of this machine: by descriptors on Linux, by
// [os.Root] elsewhere. No name leads out of it, whatever others do to the paths that lead there.
// It knows nothing of accounts, rights or protocols.
package disk
