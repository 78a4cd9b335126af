package keep

import "time"

// Binned is a file or folder that was deleted on the portal and can be put back for a while. It lies in the folder
// of its mount, under a name that nobody can see or say, and counts in the quotas there.
type Binned struct {
	ID      string
	Account int64  // who deleted it; 0: it is gone
	Path    string // where it was in its tree
	Folder  bool
	Size    int64  // of a file, bytes
	Store   string // where it lies
	In      string
	Was     string // the folder of the store in which it was; "": it was not noted yet
	Deleted time.Time
	Until   time.Time // it is removed then
}

// MaxBinned bounds what lies in one account's bin.
const MaxBinned = 10_000
