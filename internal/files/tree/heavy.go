package tree

import (
	"context"
	"runtime"
	"sync"

	"urbankeep/internal/keep"
)

// Heavy bounds the work that clients can ask for without moving a byte themselves, as hashing a
// file or copying it on this side: one piece of it for each account, and half of the processors
// in all, which have time for it when nobody else needs them. So sign-ins and transfers of others
// stay quick. Its zero value is ready.
type Heavy struct {
	once sync.Once
	all  chan struct{}

	mu sync.Mutex
	of map[string]chan struct{} // by account, while somebody works or waits
	in map[string]int           // how many do
}

// begin waits until an account may work; end is called when it has. The error is for who left
// meanwhile.
func (h *Heavy) begin(ctx context.Context, account string) (end func(), err error) {
	h.once.Do(func() {
		h.all = make(chan struct{}, max(1, runtime.GOMAXPROCS(0)/2))
		h.of, h.in = map[string]chan struct{}{}, map[string]int{}
	})
	h.mu.Lock()
	if h.of[account] == nil {
		h.of[account] = make(chan struct{}, 1)
	}
	mine := h.of[account]
	h.in[account]++
	h.mu.Unlock()
	left := func() {
		h.mu.Lock()
		defer h.mu.Unlock()
		if h.in[account]--; h.in[account] == 0 {
			delete(h.in, account)
			delete(h.of, account)
		}
	}
	for _, place := range []chan struct{}{mine, h.all} {
		select {
		case place <- struct{}{}:
		case <-ctx.Done():
			if place == h.all {
				<-mine
			}
			left()
			return nil, keep.Refuse(keep.ClientGone, "the client left")
		}
	}
	return func() { <-h.all; <-mine; left() }, nil
}

// Heavy does heavy work once it may begin; see [Heavy].
func (t *Tree) Heavy(ctx context.Context, work func() error) error {
	end, err := t.heavy.begin(ctx, t.who.Account)
	if err != nil {
		return err
	}
	defer end()
	done := make(chan func() error, 1)
	go func() {
		defer func() {
			if cause := recover(); cause != nil { // for whoever serves the connection
				done <- func() error { panic(cause) }
			}
		}()
		stepBack()
		err := work()
		done <- func() error { return err }
	}()
	return (<-done)()
}
