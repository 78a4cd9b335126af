package traffic

import (
	"cmp"
	"slices"
)

// Reader follows a registry: each [Reader.Next] tells what is new. It is for one
// goroutine.
type Reader struct {
	r        *Registry
	ended    uint64            // transfers that ended since are to be told
	sessions map[string]uint64 // that were told of, and the version that was told
	running  map[string]uint64 // transfers that were told of, and not that they ended
}

// Reader makes a reader that knows nothing yet.
func (r *Registry) Reader() *Reader { return &Reader{r: r} }

// Changes is what is new to a reader.
type Changes struct {
	Full      bool           // this is everything: forget what you knew
	Sessions  []SessionInfo  // new, longest first
	Moves     []SessionInfo  // known, and changed
	Transfers []TransferInfo // new or ended, oldest first
	Progress  []TransferInfo // known, and further
	Gone      []string       // sessions and transfers that are no more
	Beat      Beat           // the last second
	Live      int            // sessions
	Running   int            // transfers
}

// What a change costs of a message, bytes: about what it is as JSON.
const (
	newCost  = 350
	moveCost = 110
)

// candidate is something that a message might tell of.
type candidate struct {
	told    uint64 // the version that the reader knows, 0 for none
	version uint64
	session *Session
	running *transfer
}

// Next tells what is new in a message of about so many bytes at most; the first one
// tells everything. What has waited longest goes first, so that what does not fit
// comes later and nothing is left behind: with thousands of sessions a reader hears
// of each less often, and not more altogether.
func (rd *Reader) Next(bytes int) Changes {
	r := rd.r
	r.mu.Lock()
	defer r.mu.Unlock()
	c := Changes{Full: rd.sessions == nil, Live: len(r.sessions), Running: len(r.running)}
	if len(r.beats) > 0 {
		c.Beat = r.beats[len(r.beats)-1]
	}
	if c.Full {
		rd.sessions, rd.running = map[string]uint64{}, map[string]uint64{}
		bytes = 1 << 62
	}
	bytes -= rd.tellEnds(&c, bytes/2)
	rd.tellGone(&c)

	for _, next := range rd.changed() {
		if bytes <= 0 {
			break
		}
		bytes -= rd.tell(&c, next)
	}
	slices.SortFunc(c.Sessions, func(a, b SessionInfo) int { return a.Since.Compare(b.Since) })
	slices.SortFunc(c.Transfers, func(a, b TransferInfo) int { return a.Started.Compare(b.Started) })
	return c
}

// changed finds what has changed since the reader heard of it, what it heard of
// longest ago first.
func (rd *Reader) changed() []candidate {
	var found []candidate
	for _, s := range rd.r.sessions {
		if told := rd.sessions[s.info.ID]; s.version > told {
			found = append(found, candidate{told, s.version, s, nil})
		}
	}
	for _, t := range rd.r.running {
		if told, version := rd.running[t.info.ID], t.version.Load(); version > told {
			found = append(found, candidate{told, version, nil, t})
		}
	}
	slices.SortFunc(found, func(a, b candidate) int {
		return cmp.Or(cmp.Compare(a.told, b.told), cmp.Compare(a.version, b.version))
	})
	return found
}

func (rd *Reader) tell(c *Changes, next candidate) (cost int) {
	known := next.told > 0
	if next.session != nil {
		rd.sessions[next.session.info.ID] = next.version
	} else {
		rd.running[next.running.info.ID] = next.version
	}
	switch {
	case next.session != nil && known:
		c.Moves = append(c.Moves, next.session.now())
		return moveCost + len(next.session.info.Path)
	case next.session != nil:
		c.Sessions = append(c.Sessions, next.session.now())
		return newCost + len(next.session.info.Path) + len(next.session.info.Client)
	case known:
		c.Progress = append(c.Progress, next.running.now())
	default:
		c.Transfers = append(c.Transfers, next.running.now())
		return newCost + len(next.running.info.Path)
	}
	return moveCost
}

// tellEnds tells of transfers that have ended, the newest where they are too many.
func (rd *Reader) tellEnds(c *Changes, bytes int) (cost int) {
	for _, t := range slices.Backward(rd.r.recent) {
		if t.version.Load() <= rd.ended || cost >= bytes {
			break
		}
		delete(rd.running, t.info.ID)
		c.Transfers = append(c.Transfers, t.now())
		cost += newCost + len(t.info.Path)
	}
	if len(rd.r.recent) > 0 {
		rd.ended = rd.r.recent[len(rd.r.recent)-1].version.Load()
	}
	return cost
}

// tellGone tells what the reader believes to be there and isn't.
func (rd *Reader) tellGone(c *Changes) {
	for id := range rd.sessions {
		if rd.r.sessions[id] == nil {
			delete(rd.sessions, id)
			c.Gone = append(c.Gone, id)
		}
	}
	for id := range rd.running {
		if rd.r.running[id] == nil {
			delete(rd.running, id)
			c.Gone = append(c.Gone, id)
		}
	}
}

// Empty reports whether there is nothing to tell.
func (c *Changes) Empty() bool {
	return !c.Full && len(c.Sessions)+len(c.Moves)+len(c.Transfers)+len(c.Progress)+len(c.Gone) == 0
}
