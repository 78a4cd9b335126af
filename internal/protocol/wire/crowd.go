package wire

import (
	"container/list"
	"net"
	"net/netip"
	"sync"
)

// Crowd shares the room that there is for connections on which nobody has signed in yet, over
// all listeners. An IPv6 address counts with its network of 64 bits.
//
// A stranger who comes when there is no room takes the place of the one who has waited longest
// among those of the network that has the most. So whoever floods pushes out themselves.
type Crowd struct {
	Most       int                       // connections in all
	PerNetwork int                       // of one network
	Kept       int                       // of Most, for who comes from where somebody signed in before
	Familiar   func(address string) bool // says who that is; nil: nobody

	mu        sync.Mutex
	strangers list.List // of *stranger, the oldest first
	networks  map[netip.Prefix]int
}

type stranger struct {
	conn     net.Conn
	from     netip.Prefix
	familiar bool
}

// UsualCrowd is the room that there usually is.
func UsualCrowd() *Crowd { return &Crowd{Most: 400, PerNetwork: 40, Kept: 100} }

// networkOf is what an address counts with.
func networkOf(at netip.Addr) netip.Prefix {
	bits := at.BitLen()
	if at.Is6() {
		bits = 64
	}
	return netip.PrefixFrom(at, bits).Masked()
}

// Enter lets a connection in; leave is called once somebody has signed in on it, or it is
// gone. Not ok: its network has as many as it may, or there is no room at all.
func (c *Crowd) Enter(conn net.Conn) (leave func(), ok bool) {
	address := IP(conn.RemoteAddr())
	s := &stranger{conn: conn, from: networkOf(address)}
	s.familiar = c.Familiar != nil && c.Familiar(address.String())
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.networks == nil {
		c.networks = map[netip.Prefix]int{}
	}
	room := c.Most
	if !s.familiar {
		room -= c.Kept
	}
	if c.networks[s.from] >= c.PerNetwork || c.strangers.Len() >= room && !c.makeRoom() {
		return nil, false
	}
	e := c.strangers.PushBack(s)
	c.networks[s.from]++
	return sync.OnceFunc(func() {
		c.mu.Lock()
		defer c.mu.Unlock()
		c.drop(e)
	}), true
}

// makeRoom ends one connection. The caller holds mu.
func (c *Crowd) makeRoom() bool {
	var victim *list.Element
	for e := c.strangers.Front(); e != nil; e = e.Next() {
		s := e.Value.(*stranger)
		if !s.familiar && (victim == nil || c.networks[s.from] > c.networks[victim.Value.(*stranger).from]) {
			victim = e
		}
	}
	if victim == nil {
		return false
	}
	conn := victim.Value.(*stranger).conn
	c.drop(victim)
	conn.Close()
	return true
}

func (c *Crowd) drop(e *list.Element) {
	s, here := e.Value.(*stranger)
	if !here {
		return // it was pushed out
	}
	e.Value = nil
	c.strangers.Remove(e)
	if c.networks[s.from]--; c.networks[s.from] == 0 {
		delete(c.networks, s.from)
	}
}
