package sftp

import (
	"io"
	"time"

	"golang.org/x/crypto/ssh"

	"urbankeep/internal/keep"
	"urbankeep/internal/protocol/scp"
	"urbankeep/internal/protocol/wire"
)

// noShell is the answer to everything but the sftp subsystem and scp.
const noShell = "this service moves files; it has no shell (use sftp, or scp without -O)\r\n"

// serveChannel answers the requests of one session channel until it closes (RFC
// 4254, section 6).
func (c *conn) serveChannel(channel ssh.Channel, requests <-chan *ssh.Request) {
	defer wire.Rescue(c.server.Log, c.raw.RemoteAddr())
	defer channel.Close()
	started := make(chan func() int, 1)
	ended := make(chan struct{})
	go func() { // ends when the channel closes, which serveChannel waits for
		defer close(ended)
		begun := false
		for request := range requests {
			var work func() int
			taken := false
			if !begun {
				work, taken = c.asked(channel, request)
			}
			if request.WantReply {
				request.Reply(taken, nil)
			}
			if work != nil {
				begun = true
				started <- work
			}
		}
	}()
	select {
	case work := <-started:
		status := work()
		c.answering.Lock() // who stays for a moment only learns the host keys all the same
		c.answering.Unlock()
		channel.SendRequest("exit-status", false, ssh.Marshal(struct{ Status uint32 }{uint32(status)}))
		channel.Close()
	case <-ended:
	}
	<-ended
}

// asked is the work that a request begins, which gives an exit status, and whether the request is taken; nil: it begins none.
func (c *conn) asked(channel ssh.Channel, request *ssh.Request) (work func() int, taken bool) {
	refuse := func() int {
		io.WriteString(channel.Stderr(), noShell)
		return 1
	}
	switch request.Type {
	case "subsystem":
		if named(request.Payload) != "sftp" {
			return refuse, false
		}
		if err := c.tree.MayUse(keep.Connecting, "/"); err != nil { // it came to use scp
			return func() int {
				io.WriteString(channel.Stderr(), keep.FaultOf(err).Say+"\r\n")
				return 1
			}, false
		}
		return func() int {
			newSession(c, channel).run()
			return 0
		}, true
	case "exec":
		command, is, err := scp.Parse(named(request.Payload))
		if !is {
			return refuse, true
		}
		return func() int { return c.scp(channel, command, err) }, true
	case "shell":
		return refuse, true
	}
	return nil, false
}

// scp answers a client of the legacy copy protocol, where the account may use that.
func (c *conn) scp(channel ssh.Channel, command *scp.Command, err error) int {
	over := c.tree.Over(keep.SCP)
	if err == nil {
		action := keep.Downloading
		if command.To {
			action = keep.Uploading
		}
		at, bad := keep.CleanPath("/", command.Names[0].Text)
		if err = bad; err == nil {
			err = over.MayUse(action, at)
		}
		if err != nil && keep.FaultOf(err).Reason == keep.ProtocolRefused {
			err = keep.Refuse(keep.ProtocolRefused, "the account may not use scp: use sftp, or scp without -O")
		}
	}
	if err != nil {
		scp.Refuse(channel, err)
		return heard(channel, 1)
	}
	return heard(channel, (&scp.Session{Tree: over, Line: awake{channel, c}, Opened: c.opened, Work: c.work, Gone: c.cutReason, Stop: func() { channel.Close() },
		Failed: func(err error) {
			c.server.Log.Error("request failed", "account", over.Account(), "cause", err)
		}}).Run(command))
}

// hearTime is how long a client may take to hear why something ended badly: some pass over what came together with the end.
const hearTime = time.Second

// heard gives a status once the client has left, or had time to hear why the session ends with it.
func heard(channel ssh.Channel, status int) int {
	if status == 0 {
		return status
	}
	left := make(chan struct{})
	go func() { // ends with the channel
		io.Copy(io.Discard, channel)
		close(left)
	}()
	select {
	case <-left:
	case <-time.After(hearTime):
	}
	return status
}

// awake is a channel on which whatever moves shows that its client is not idle.
type awake struct {
	io.ReadWriter
	c *conn
}

func (a awake) Read(p []byte) (int, error) {
	n, err := a.ReadWriter.Read(p)
	a.c.idle.Reset(a.c.tree.Idle(a.c.server.Timeouts.Idle))
	return n, err
}

func (a awake) Write(p []byte) (int, error) {
	n, err := a.ReadWriter.Write(p)
	a.c.idle.Reset(a.c.tree.Idle(a.c.server.Timeouts.Idle))
	return n, err
}

// named is the one text of a request.
func named(payload []byte) string {
	var body struct{ Text string }
	if ssh.Unmarshal(payload, &body) != nil {
		return ""
	}
	return body.Text
}
