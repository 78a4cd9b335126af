package tree

import (
	"io/fs"
	"sync"

	"urbankeep/internal/files/store"
)

// maxMade bounds the files that a session is remembered to have made.
const maxMade = 64

// made remembers the newest files that this session has made itself: it may look at them and
// set their times and modes, whatever its rights, since many clients do that after an upload and take a refusal
// for a failed one. What another file has taken the place of is not meant.
type made struct {
	mu    sync.Mutex
	files map[string]fs.FileInfo // by path in the tree
	order []string
}

func (m *made) add(at string, info fs.FileInfo) {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.files == nil {
		m.files = map[string]fs.FileInfo{}
	}
	if _, again := m.files[at]; !again {
		if len(m.order) >= maxMade {
			delete(m.files, m.order[0])
			m.order = m.order[1:]
		}
		m.order = append(m.order, at)
	}
	m.files[at] = info
}

// is reports whether the file at a path is one that this session has made.
func (m *made) is(at string, info fs.FileInfo) bool {
	m.mu.Lock()
	defer m.mu.Unlock()
	was, known := m.files[at]
	return known && info != nil && store.Same(was, info)
}
