package sftp

import (
	"golang.org/x/crypto/ssh"

	"urbankeep/internal/protocol/wire"
)

// noShell is the answer to everything but the sftp subsystem.
const noShell = "this service moves files; it has no shell\r\n"

// serveChannel answers the requests of one session channel until it closes (RFC
// 4254, section 6).
func (c *conn) serveChannel(channel ssh.Channel, requests <-chan *ssh.Request) {
	defer wire.Rescue(c.server.Log, c.raw.RemoteAddr())
	defer channel.Close()
	started := make(chan struct{})
	ended := make(chan struct{})
	go func() { // ends when the channel closes, which serveChannel waits for
		defer close(ended)
		begun := false
		for request := range requests {
			ok := !begun && request.Type == "subsystem" && subsystem(request.Payload) == "sftp"
			refused := !begun && (request.Type == "shell" || request.Type == "exec" || request.Type == "subsystem" && !ok)
			if request.WantReply {
				request.Reply(ok || refused && request.Type != "subsystem", nil)
			}
			switch {
			case ok:
				begun = true
				close(started)
			case refused:
				channel.Stderr().Write([]byte(noShell))
				channel.SendRequest("exit-status", false, ssh.Marshal(struct{ Status uint32 }{1}))
				channel.Close()
			}
		}
	}()
	select {
	case <-started:
		newSession(c, channel).run()
		c.answering.Lock() // who stays for a moment only learns the host keys all the same
		c.answering.Unlock()
		channel.SendRequest("exit-status", false, ssh.Marshal(struct{ Status uint32 }{0}))
		channel.Close()
	case <-ended:
	}
	<-ended
}

func subsystem(payload []byte) string {
	var body struct{ Name string }
	if ssh.Unmarshal(payload, &body) != nil {
		return ""
	}
	return body.Name
}
