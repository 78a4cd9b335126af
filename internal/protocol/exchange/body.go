package exchange

import (
	"bytes"
	"container/list"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/netip"
	"sync"
	"time"
)

const (
	// maxBody bounds the body of who has signed in, bytes, and maxFirst that of who has not; bodyTime how long it may take to come.
	maxBody  = 8 << 20
	maxFirst = 64 << 10
	bodyTime = 20 * time.Second
	// maxFirsts bounds the bodies of those who have not signed in that are being read, over all listeners, and maxFirstsOfOne
	// those of one network: where there is no room the oldest goes. With maxFirst they take 32 MiB.
	maxFirsts, maxFirstsOfOne = 512, 64
)

// firsts are the bodies of those who have not signed in that are being read.
var firsts bodies

type bodies struct {
	mu   sync.Mutex
	open list.List // of *reading, the oldest first
	of   map[string]int
}

type reading struct {
	network string
	end     func()
}

// begin finds room for a body; end is called where it must make room for another.
func (b *bodies) begin(address string, end func()) (leave func()) {
	one := &reading{networkOf(address), end}
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.of == nil {
		b.of = map[string]int{}
	}
	full := b.open.Len() >= maxFirsts
	if mine := b.of[one.network] >= maxFirstsOfOne; mine || full {
		for e := b.open.Front(); e != nil; e = e.Next() {
			if old := e.Value.(*reading); full && !mine || old.network == one.network {
				b.drop(e)
				old.end()
				break
			}
		}
	}
	e := b.open.PushBack(one)
	b.of[one.network]++
	return func() {
		b.mu.Lock()
		defer b.mu.Unlock()
		b.drop(e)
	}
}

// drop forgets one, if it is there. The caller holds mu.
func (b *bodies) drop(e *list.Element) {
	one := e.Value.(*reading)
	if one.end == nil {
		return
	}
	b.open.Remove(e)
	if b.of[one.network]--; b.of[one.network] == 0 {
		delete(b.of, one.network)
	}
	e.Value = &reading{network: one.network}
}

// networkOf is what an address counts with: of IPv6 its network of 64 bits.
func networkOf(address string) string {
	if at, err := netip.ParseAddr(address); err == nil && at.Is6() && !at.Is4In6() {
		return netip.PrefixFrom(at, 64).Masked().String()
	}
	return address
}

// Body reads the body of a request whose sender has signed in, up to 8 MiB.
func Body(w http.ResponseWriter, r *http.Request) ([]byte, error) { return readBody(w, r, maxBody) }

// FirstBody reads the body of a request whose sender has not signed in, up to 64 KiB, where there is room.
func FirstBody(w http.ResponseWriter, r *http.Request) ([]byte, error) {
	return FirstBodyOf(w, r, maxFirst)
}

// FirstBodyOf is FirstBody up to another size, bytes.
func FirstBodyOf(w http.ResponseWriter, r *http.Request, most int64) ([]byte, error) {
	control := http.NewResponseController(w)
	defer firsts.begin(AddressOf(r), func() { control.SetReadDeadline(time.Now()) })()
	return readBody(w, r, most)
}

func readBody(w http.ResponseWriter, r *http.Request, most int64) ([]byte, error) {
	control := http.NewResponseController(w)
	control.SetReadDeadline(time.Now().Add(bodyTime))
	if r.ContentLength > most {
		return nil, tooLarge(most)
	}
	text, err := io.ReadAll(http.MaxBytesReader(w, r.Body, most))
	var large *http.MaxBytesError
	switch {
	case errors.As(err, &large):
		return nil, tooLarge(most)
	case err != nil:
		return nil, &Problem{http.StatusRequestTimeout, "the request's body did not come to its end"}
	}
	control.SetReadDeadline(time.Time{}) // what is asked for may take longer
	return text, nil
}

func tooLarge(most int64) error {
	return &Problem{http.StatusRequestEntityTooLarge, fmt.Sprintf("the request is larger than %d bytes", most)}
}

// FirstForm has [http.Request.PostForm] filled for who has not signed in.
func FirstForm(w http.ResponseWriter, r *http.Request, most int64) error {
	text, err := FirstBodyOf(w, r, most)
	if err != nil {
		return err
	}
	r.Body = io.NopCloser(bytes.NewReader(text))
	if r.ParseForm() != nil {
		return &Problem{http.StatusBadRequest, "the form can't be read"}
	}
	return nil
}
