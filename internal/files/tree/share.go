package tree

import (
	"sync"

	"urbankeep/internal/files/quota"
	"urbankeep/internal/files/store"
)

// Shared lets all sessions of a mount's folder have one descriptor of it in common.
type Shared struct {
	mu   sync.Mutex
	open map[quota.Spot]*common
}

// common is a folder that several have open.
type common struct {
	folder store.Folder
	users  int
}

// take gives a folder that has just been opened, or the same one that others have open already. release lets it go.
func (s *Shared) take(spot quota.Spot, folder store.Folder) (_ store.Folder, release func() error) {
	if s == nil {
		return folder, folder.Close
	}
	mine, err := folder.Lookup(".")
	if err != nil {
		return folder, folder.Close
	}
	if one := s.join(spot); one != nil {
		if theirs, err := one.folder.Lookup("."); err == nil && store.Same(mine, theirs) { // else another folder has its name by now
			folder.Close()
			return one.folder, sync.OnceValue(func() error { return s.leave(spot, one) })
		}
		s.leave(spot, one)
	}
	one := &common{folder: folder, users: 1}
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.open == nil {
		s.open = map[quota.Spot]*common{}
	}
	s.open[spot] = one
	return folder, sync.OnceValue(func() error { return s.leave(spot, one) })
}

func (s *Shared) join(spot quota.Spot) *common {
	s.mu.Lock()
	defer s.mu.Unlock()
	one := s.open[spot]
	if one != nil {
		one.users++
	}
	return one
}

func (s *Shared) leave(spot quota.Spot, one *common) error {
	s.mu.Lock()
	one.users--
	last := one.users == 0
	if last && s.open[spot] == one {
		delete(s.open, spot)
	}
	s.mu.Unlock()
	if last {
		return one.folder.Close()
	}
	return nil
}
