// Package tree is the one way to files. A [Tree] is all that one session sees:
// the account's mounts laid over one "/", with rights decided, transfers
// measured and every operation recorded here, whatever protocol asked.
//
// It knows no wire. A protocol gives it names as clients sent them and gets
// back files, listings and [keep.Fault] errors that hold no real path.
package tree
