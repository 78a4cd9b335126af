package main

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"sync/atomic"
	"time"

	"urbankeep/internal/keep"
	"urbankeep/internal/records"
	"urbankeep/internal/watch/notice"
)

// teller is what the rows of notices need: a receiver that counts calls.
type teller struct {
	at    string
	calls atomic.Int64
	ready bool // our service has its notices
}

func (t *teller) listen() error {
	if t.at != "" {
		return nil
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return err
	}
	t.at = "http://" + l.Addr().String() + "/"
	go http.Serve(l, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { // ends with the bench
		io.Copy(io.Discard, r.Body)
		t.calls.Add(1)
		w.WriteHeader(http.StatusNoContent)
	}))
	return nil
}

// manyNotices is how many notices a receiver is told by.
const manyNotices = 20

// withNotices measures while many notices tell of each upload, or none does.
func (w *world) withNotices(state string, do func() (float64, error)) (float64, error) {
	if err := w.teller.listen(); err != nil {
		return 0, err
	}
	run := func(args ...string) error {
		out, err := exec.Command("bin/urbankeep", append(args, "-data", filepath.Join(w.dir, "data"))...).CombinedOutput()
		if err != nil {
			return fmt.Errorf("%v: %w: %s", args, err, out)
		}
		return nil
	}
	if !w.teller.ready {
		if err := run("receiver", "add", "bench", w.teller.at, "-private"); err != nil {
			return 0, err
		}
		for n := range manyNotices {
			if err := run("notice", "add", fmt.Sprint("n", n), "-events", "upload,delete", "-receivers", "bench", "-accounts", "c*", "-path", "/**/f*"); err != nil {
				return 0, err
			}
		}
		w.teller.ready = true
	}
	if err := run("receiver", "set", "bench", state); err != nil {
		return 0, err
	}
	rate, err := do()
	for before := int64(-1); err == nil && state == "-on" && w.teller.calls.Load() != before; time.Sleep(2 * time.Second) { // what this turn left is not told in the next
		before = w.teller.calls.Load()
	}
	return rate, err
}

// backlog is how many events wait; each of them is told.
func backlog() int { return min(100_000, someRecords) }

// drained tells a backlog to the receiver, and counts each second.
func (w *world) drained() (rate float64, err error) {
	if err := w.teller.listen(); err != nil {
		return 0, err
	}
	dir := filepath.Join(w.dir, w.fresh("backlog"))
	defer os.RemoveAll(dir)
	ctx := context.Background()
	db, err := records.Open(ctx, dir)
	if err != nil {
		return 0, err
	}
	defer db.Close()
	n := backlog()
	batch := make([]records.ChainedRecord, 0, 1000)
	for seq := 1; seq <= n; seq++ {
		batch = append(batch, records.ChainedRecord{AuditRecord: reading(seq), Prev: make([]byte, 32), Digest: make([]byte, 32)})
		if len(batch) == cap(batch) || seq == n {
			if err := db.AppendAudit(ctx, batch); err != nil {
				return 0, err
			}
			batch = batch[:0]
		}
	}
	r := keep.Receiver{Name: "bench", Kind: keep.WebCall, URL: w.teller.at, Private: true, Secret: keep.NewSigningSecret(make([]byte, 32))}
	if err := r.Check(); err != nil {
		return 0, err
	}
	if err := db.SaveReceiver(ctx, r, 0); err != nil {
		return 0, err
	}
	if err := db.SaveNotice(ctx, keep.Notice{Name: "all", Events: []keep.Event{keep.EventUpload}, Receivers: []string{"bench"}}, time.Now()); err != nil {
		return 0, err
	}
	before := w.teller.calls.Load()
	return timed(n, func() error {
		t, err := notice.Open(ctx, db, notice.Options{Source: "urn:bench", Own: func(netip.AddrPort) bool { return false }, Log: slog.New(slog.DiscardHandler)})
		if err != nil {
			return err
		}
		for w.teller.calls.Load()-before < int64(n) {
			time.Sleep(time.Millisecond)
		}
		return t.Close()
	})
}

func reading(seq int) keep.AuditRecord {
	return keep.AuditRecord{Seq: int64(seq), At: begin.Add(time.Duration(seq) * time.Second), Account: "gauge-quay", Address: "192.0.2.7", Protocol: keep.FTPS, Encrypted: true, Session: "K2J5QW7Z4M3A",
		Action: keep.Uploading, Path: fmt.Sprintf("/level-%08d.csv", seq), Bytes: 640, Duration: time.Millisecond, Outcome: keep.Done}
}

// bareCalls is the least that telling can be: as many calls with a body like those, one after the other on one connection.
func (w *world) bareCalls() (float64, error) {
	if err := w.teller.listen(); err != nil {
		return 0, err
	}
	n := backlog()
	r := reading(1)
	body, err := json.Marshal(notice.Event{SpecVersion: "1.0", Data: notice.Data{Says: "gauge-quay uploaded a reading", Path: r.Path, Account: r.Account, Session: r.Session}})
	if err != nil {
		return 0, err
	}
	body = append(body, bytes.Repeat([]byte(" "), 300)...)
	client := &http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: 1}}
	defer client.CloseIdleConnections()
	return timed(n, func() error {
		for range n {
			answer, err := client.Post(w.teller.at, "application/json", bytes.NewReader(body))
			if err != nil {
				return err
			}
			io.Copy(io.Discard, answer.Body)
			answer.Body.Close()
		}
		return nil
	})
}

func (w *world) noticeRows() []row {
	put := func() (float64, error) { return w.putSmallInto(w.oursAt["sftp"]) }
	return []row{
		{name: "sftp upload of 4 KiB files, 20 notices", unit: "files/s", target: 0.97, turns: 5,
			ours:  func() (float64, error) { return w.withNotices("-on", put) },
			floor: func() (float64, error) { return w.withNotices("-off", put) }},
		{name: "sftp upload, 1 GiB, 20 notices", unit: "MiB/s", target: 0.97, turns: 5,
			ours: func() (float64, error) {
				return w.withNotices("-on", func() (float64, error) {
					return timed(w.mib, func() error { return w.sftp(w.oursAt["sftp"], "put "+w.large+" up") })
				})
			},
			floor: func() (float64, error) {
				return w.withNotices("-off", func() (float64, error) {
					return timed(w.mib, func() error { return w.sftp(w.oursAt["sftp"], "put "+w.large+" up") })
				})
			}},
		{name: "notices told of a backlog of 100,000 events", unit: "per s", turns: 3, ours: w.drained, floor: w.bareCalls},
	}
}
