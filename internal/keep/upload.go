package keep

import "time"

// PartialUpload is a file that comes in pieces and is not whole yet.
type PartialUpload struct {
	ID       string
	Account  int64  // 0: it is gone
	Pass     string // with which it was begun; "": by the account's holder
	Path     string // in its tree
	Size     int64  // of the whole, bytes
	Replaces bool   // it may take the place of a file
	Hold     bool   // it waits for its hash
	Hash     string // SHA-256, hexadecimal; "": none was announced
	State    []byte // of the hash of what came, while that is known
	Hashed   int64  // how much that is, bytes
	Store    string // where it lies
	Folder   string
	Once     bool   // it can't go on after the end of the service
	Done     bool   // it has its name
	Ending   bool   // it has come whole, and is about to get its name
	About    string // what the client said of it, as it was said
	Created  time.Time
	Touched  time.Time
}

const (
	// UploadLife is how long an upload may lie unfinished without a piece.
	UploadLife = 7 * 24 * time.Hour
	// DoneLife is how long a client can ask whether one has come to its end.
	DoneLife = 24 * time.Hour
	// MaxUploads bounds the unfinished uploads of one account.
	MaxUploads = 1000
)

// Ends is when it is dropped if nothing more comes.
func (u PartialUpload) Ends() time.Time { return u.Touched.Add(UploadLife) }
