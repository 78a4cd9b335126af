package ftp

import (
	"bufio"
	"context"
	"crypto/rand"
	"fmt"
	"io"
	"path"
	"strconv"
	"strings"
	"sync"
	"time"

	"urbankeep/internal/files/tree"
	"urbankeep/internal/keep"
	"urbankeep/internal/protocol/wire"
)

func (c *conn) cmdType(arg string) error {
	switch strings.ToUpper(arg) {
	case "A", "A N":
		c.ascii = true
		c.reply(200, "type is ASCII")
	case "I", "L 8":
		c.ascii = false
		c.reply(200, "type is binary")
	default:
		return fail{504, "use TYPE A, TYPE I or TYPE L 8"}
	}
	return nil
}

func (c *conn) cmdStru(arg string) error { return c.only("STRU", arg, "F") }
func (c *conn) cmdMode(arg string) error { return c.only("MODE", arg, "S") }

func (c *conn) only(verb, arg, known string) error {
	if !strings.EqualFold(arg, known) {
		return fail{504, fmt.Sprintf("use %s %s", verb, known)}
	}
	c.reply(200, "noted")
	return nil
}

// cmdRest is RFC 3659, section 5.
func (c *conn) cmdRest(arg string) error {
	offset, err := strconv.ParseInt(arg, 10, 64)
	if err != nil || offset < 0 {
		return fail{501, "use REST offset, in bytes"}
	}
	c.restart, c.rangeTo = offset, -1
	c.reply(350, fmt.Sprintf("the next transfer starts at byte %d", offset))
	return nil
}

func (c *conn) cmdAllo(arg string) error {
	size, err := strconv.ParseInt(strings.Fields(arg)[0], 10, 64)
	if err != nil || size < 0 {
		return fail{501, "use ALLO bytes"}
	}
	c.announced = size
	c.reply(200, "noted")
	return nil
}

func (c *conn) cmdRetr(arg string) error {
	at, err := c.path(arg)
	if err != nil {
		return err
	}
	from, to := c.takeRange()
	if err := c.canTransfer(); err != nil {
		return err
	}
	f, err := c.tree.Open(at, tree.OpenMode{Read: true, Offset: from})
	if err != nil {
		return err
	}
	info, err := f.Stat()
	if err == nil && from > info.Size() {
		err = fail{554, "the file is shorter than that"}
	}
	if err != nil {
		f.Abort(keep.Refuse(keep.BadRequest, "the client wanted to start behind the end"))
		return err
	}
	length := info.Size() - from
	if to >= 0 {
		length = min(length, to+1-from)
	}
	if c.ascii {
		// The offset counts bytes as they are sent (RFC 3659, section 5.3).
		c.move(f, "sending text", false, func(d dataConn) error {
			return f.SendTo(&asciiWriter{w: &skipWriter{w: d, skip: from}}, 0, -1)
		})
		return nil
	}
	// Many clients read the size that stands in brackets.
	c.move(f, fmt.Sprintf("sending %s (%d bytes)", path.Base(at), length), false, func(d dataConn) error { return f.SendTo(d, from, length) })
	return nil
}

func (c *conn) cmdStor(arg string) error {
	at, err := c.path(arg)
	if err != nil {
		return err
	}
	from, _ := c.takeRange()
	return c.receive(at, from, tree.OpenMode{Write: true, Create: true, Truncate: from == 0, Rescan: c.ascii && from > 0}, "")
}

func (c *conn) cmdAppe(arg string) error {
	at, err := c.path(arg)
	if err != nil {
		return err
	}
	c.takeRange()
	return c.receive(at, 0, tree.OpenMode{Write: true, Create: true, Append: true}, "")
}

// cmdStou stores under a name of our choice (RFC 959, section 4.1.3; the reply's
// form is RFC 1123, section 4.1.2.9).
func (c *conn) cmdStou(string) error {
	name := time.Now().UTC().Format("20060102T150405") + "-" + strings.ToLower(rand.Text()[:8])
	c.takeRange()
	return c.receive(path.Join(c.cwd, name), 0, tree.OpenMode{Write: true, Create: true, Exclusive: true}, "FILE: "+name)
}

func (c *conn) receive(at string, from int64, mode tree.OpenMode, start string) error {
	if err := c.canTransfer(); err != nil {
		return err
	}
	mode.Offset, mode.Total = from, c.announced
	c.announced = 0
	if start == "" {
		start = "ready to receive"
	}
	if mode.Rescan {
		return c.resumeText(at, mode, start)
	}
	if err := c.tree.MayOpen(at, mode); err != nil {
		return err
	}
	c.store(at, mode, start)
	return nil
}

// resumeText goes on with a text where the client says, which only the file itself tells;
// opening it changes nothing.
func (c *conn) resumeText(at string, mode tree.OpenMode, start string) error {
	mode.Create = false
	f, err := c.tree.Open(at, mode)
	if err != nil {
		return err
	}
	from, err := textOffset(f, mode.Offset)
	if err != nil {
		f.Abort(keep.Refuse(keep.BadRequest, "the client wanted to go on where it can't"))
		return err
	}
	c.move(f, start, true, func(d dataConn) error { return f.ReceiveFrom(&asciiReader{r: d}, from) })
	return nil
}

// store runs an upload and answers for it. Nothing of what is there changes, and no file is
// made, before the data connection stands and, over TLS, has shaken hands.
func (c *conn) store(at string, mode tree.OpenMode, start string) {
	began := time.Now()
	var f *tree.File
	stopped, done := make(chan struct{}), make(chan struct{})
	var watch sync.WaitGroup
	ascii := c.ascii
	err := c.carry(start, true, stopped, func(d dataConn) (err error) {
		if f, err = c.tree.Open(at, mode); err != nil {
			return err
		}
		watch.Go(func() {
			select {
			case <-f.Ending().Done():
				close(stopped)
			case <-done:
			}
		})
		return faultOfData(fill(f, d, mode, ascii))
	})
	close(done)
	watch.Wait()
	switch {
	case f == nil && keep.FaultOf(err).Reason == keep.NoDataConnection:
		err = c.tree.NotBegun(at, mode, began, err)
	case f != nil:
		err = ended(f, err)
	}
	c.finish(err)
}

// fill writes what comes over a data connection into a file.
func fill(f *tree.File, d io.Reader, mode tree.OpenMode, ascii bool) error {
	from := mode.Offset
	if mode.Append {
		if info, err := f.Stat(); err == nil {
			from = info.Size()
		}
	}
	if ascii {
		d = &asciiReader{r: d}
	}
	return f.ReceiveFrom(d, from)
}

// canTransfer refuses a transfer that could not begin.
func (c *conn) canTransfer() error {
	if !c.data.ready() {
		return fail{425, "say how to connect first: PASV, EPSV, PORT or EPRT"}
	}
	if c.encrypted && !c.protected && c.mustProtect() {
		return fail{522, "data goes encrypted only: PBSZ 0, then PROT P"}
	}
	return nil
}

// running is a transfer under way.
type running struct {
	started time.Time
	cancel  context.CancelFunc
	done    chan error
}

// move runs the transfer of a file and answers for it.
func (c *conn) move(f *tree.File, start string, incoming bool, work func(dataConn) error) {
	c.finish(ended(f, c.carry(start, incoming, f.Ending().Done(), func(d dataConn) error { return faultOfData(work(d)) })))
}

// ended closes the file of a transfer that ended with an error or none; what it gives is to
// be answered.
func ended(f *tree.File, err error) error {
	if stopped := f.Ended(); stopped != nil {
		err = stopped
	}
	if err != nil {
		f.Abort(err)
		return err
	}
	return f.Close() // the record is on disk before the client hears of success
}

// finish ends a data transfer with its one reply.
func (c *conn) finish(err error) {
	if err != nil {
		c.replyError(err)
		if keep.FaultOf(err).Reason == keep.ClientAborted {
			c.reply(226, "aborted as asked")
		}
		return
	}
	c.reply(226, "done")
}

// carry makes the data connection and runs work on it, listening to the command
// connection meanwhile; incoming says that the client sends. It returns when the work has ended, with a [keep.Fault]
// when it was not completed. Closing stopped ends it, too.
func (c *conn) carry(start string, incoming bool, stopped <-chan struct{}, work func(dataConn) error) error {
	if incoming {
		c.greet()
	}
	c.reply(150, start)
	return c.attended(stopped, func(ctx context.Context) error { return c.exchange(ctx, incoming, work) })
}

// attended runs work that may take long, listening to the command connection meanwhile: its
// context ends when the client asks for that or leaves.
func (c *conn) attended(stopped <-chan struct{}, work func(context.Context) error) error {
	ctx, cancel := context.WithCancel(c.ctx)
	defer cancel()
	c.raw.SetReadDeadline(time.Time{}) // a running transfer is not idleness
	r := &running{started: time.Now(), cancel: cancel, done: make(chan error, 1)}
	c.transfer = r
	defer func() { c.transfer = nil }()
	go func() { // attend waits for it
		err := error(keep.Refuse(keep.Failure, "the service failed; its log says why"))
		defer func() { r.done <- err }()
		defer wire.Rescue(c.server.Log, c.raw.RemoteAddr())
		err = work(ctx)
	}()
	return c.attend(r, stopped)
}

// exchange makes the data connection, runs work on it and closes it: properly
// when all went well, else so that the other side sees that something is missing.
func (c *conn) exchange(ctx context.Context, incoming bool, work func(dataConn) error) error {
	d, err := c.openData(ctx)
	if err != nil {
		return err
	}
	stop := context.AfterFunc(ctx, d.kill)
	err = work(d)
	stop()
	if incoming && refusal(err) && ctx.Err() == nil {
		c.drain(d)
		return err
	}
	if err != nil {
		d.kill()
		return err
	}
	return faultOfData(d.finish())
}

// attend answers the commands that make sense during a transfer, keeps the first
// other one for later, and ends the transfer when the client asks or leaves.
func (c *conn) attend(r *running, stopped <-chan struct{}) error {
	var why *keep.Fault
	incoming := c.incoming()
	cut := c.ctx.Done()
	for {
		select {
		case err := <-r.done:
			if err == nil && c.left(incoming) {
				// In clear, the end of the data looks the same whether the client
				// was done or was cut off; but then its command connection went too.
				return errLeft
			}
			if why != nil && err != nil {
				return why
			}
			return err
		case got := <-incoming:
			c.pending = nil
			if why = c.during(got); why != nil {
				r.cancel()
			}
			incoming = nil
			if c.held == nil && got.err == nil {
				incoming = c.incoming()
			}
		case <-stopped:
			r.cancel()
			stopped = nil
		case <-cut:
			why, cut = c.cutReason(), nil
		}
	}
}

var errLeft = keep.Refuse(keep.ClientGone, "the client closed the command connection")

// left reports whether the command connection is known to be gone.
func (c *conn) left(incoming chan line) bool {
	select {
	case got := <-incoming:
		c.pending, c.held = nil, &got
		return got.err != nil && got.err != errLineTooLong
	default:
		return c.held != nil && c.held.err != nil
	}
}

// during handles what comes in on the command connection while a transfer runs;
// a fault ends the transfer.
func (c *conn) during(got line) *keep.Fault {
	verb, arg := parse(got.text)
	switch {
	case got.err == errLineTooLong:
		c.reply(500, "the command line is too long")
	case got.err != nil:
		c.held = &got
		return errLeft
	case verb == "ABOR":
		return keep.Refuse(keep.ClientAborted, "the client asked to stop")
	case verb == "STAT" && arg == "":
		c.replyBlock(211, "Status:", c.status(), "End")
	case verb == "NOOP":
		c.reply(200, "still here")
	default:
		c.held = &got
	}
	return nil
}

func (c *conn) cmdAbor(string) error {
	c.data.drop()
	c.reply(226, "nothing was running")
	return nil
}

// sendListing sends lines over a data connection as they are made; each ends in
// CRLF.
func (c *conn) sendListing(make func(line func([]byte)) error) error {
	err := c.carry("here comes the listing", false, nil, func(d dataConn) error {
		out := bufio.NewWriterSize(d, 32<<10) // keeps the first error to itself until Flush
		err := make(func(text []byte) {
			out.Write(text)
			out.WriteString("\r\n")
		})
		if sent := faultOfData(out.Flush()); sent != nil {
			return sent
		}
		return err
	})
	c.finish(err)
	return nil
}
