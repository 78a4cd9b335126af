package store

// Space is how much a store holds and has left.
type Space struct {
	Bytes, FreeBytes uint64
	Files, FreeFiles uint64
}
