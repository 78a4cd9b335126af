package keep

import (
	"path"
	"strings"
)

// Spot is a path in a store: relative, slash-separated, clean. Where links led there, they are followed: so two spots are
// the same when they are equal.
type Spot struct{ Store, Path string }

// String is the spot as people write it.
func (s Spot) String() string { return s.Store + ":" + s.Path }

// Folder is the one in which it lies.
func (s Spot) Folder() Spot { return Spot{s.Store, path.Dir(s.Path)} }

// Within reports whether a spot is that of a folder, or lies below it.
func (s Spot) Within(folder Spot) bool {
	return s.Store == folder.Store && (folder.Path == "." || s.Path == folder.Path || strings.HasPrefix(s.Path, folder.Path+"/"))
}

// Moved is where something in a folder is once the folder has moved.
func (s Spot) Moved(from, to Spot) Spot {
	if s == from {
		return to
	}
	below := s.Path
	if from.Path != "." {
		below = strings.TrimPrefix(s.Path, from.Path+"/")
	}
	return Spot{to.Store, path.Join(to.Path, below)}
}

// Deed is something that is done in several steps to what lies in stores. It is written down before the first of them, so
// that the next start puts right what the end of the process has cut off.
type Deed struct {
	ID      string
	Account string // name
	Path    string // in its tree: where something goes, or was
	From    Spot   // what moves, or goes for good
	To      Spot   // where to; the zero one: it goes for good
	Stage   bool   // From is a copy in the making, which nobody has seen
	Old     Spot   // where what was at To lies meanwhile; the zero one: nothing was there
	Binned  bool   // that is in the bin, where it stays in the end
	Source  Spot   // what is copied, and goes for good then; the zero one: it stays
	Away    Spot   // where that lies meanwhile
	Done    bool   // From is at To: what is left goes
}
