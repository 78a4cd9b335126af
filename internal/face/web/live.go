package web

import (
	"encoding/json"
	"fmt"
	"net/http"
	"time"

	"github.com/gin-gonic/gin"

	"urbankeep/internal/api"
	"urbankeep/internal/keep"
	"urbankeep/internal/watch/traffic"
)

const (
	// livePace is how often a reader of the stream hears of changes.
	livePace = 500 * time.Millisecond
	// liveMessage is about how large a message becomes, bytes; what does not fit
	// comes with the next one.
	liveMessage = 12 << 10
	// liveQuiet is how long the stream may be silent before a sign of life.
	liveQuiet = 15 * time.Second
	// liveKnown is how often it is asked whether the reader may still read.
	liveKnown = 5 * time.Second
	// liveSlow is how long a reader may take for a message. One that takes longer is
	// dropped; when it comes back it starts anew.
	liveSlow = 10 * time.Second
)

// live streams what changes as server-sent events (HTML, section 9.2). Each message
// holds what is new since the one before.
func (s *Server) live(c *gin.Context) error {
	leave, err := s.streams.enter(actor(c).Operator)
	if err != nil {
		return err
	}
	defer leave()
	h := c.Writer.Header()
	h.Set("Content-Type", "text/event-stream")
	h.Set("X-Accel-Buffering", "no")
	line := http.NewResponseController(c.Writer)
	reader := s.Traffic.Reader()
	tick := time.NewTicker(livePace)
	defer tick.Stop()
	var told traffic.Beat
	for spoke, known := time.Now(), time.Now(); ; {
		if time.Since(known) > liveKnown {
			if _, err := s.operatorOf(c, actor(c).Protocol == keep.Local); err != nil {
				return nil // the sign-in has ended: so does what it sees
			}
			known = time.Now()
		}
		changes := reader.Next(liveMessage)
		message := []byte(": quiet\n\n")
		if moved := changes.Beat.At != told.At && !(still(changes.Beat) && still(told)); moved || !changes.Empty() {
			told = changes.Beat
			text, err := json.Marshal(showChanges(&changes))
			if err != nil {
				return err
			}
			message = fmt.Appendf(nil, "data: %s\n\n", text)
		} else if time.Since(spoke) < liveQuiet {
			message = nil
		}
		if message != nil {
			spoke = time.Now()
			line.SetWriteDeadline(spoke.Add(liveSlow))
			if _, err := c.Writer.Write(message); err != nil {
				return nil // the reader is gone, or too slow
			}
			if err := line.Flush(); err != nil {
				return nil
			}
		}
		select {
		case <-tick.C:
		case <-c.Request.Context().Done():
			return nil
		case <-s.Stopping.Done():
			return nil
		}
	}
}

// still reports whether nothing happened in a second.
func still(b traffic.Beat) bool { return b.Up == 0 && b.Down == 0 && b.Operations == 0 }

func showBeat(b traffic.Beat) api.Beat {
	return api.Beat{At: b.At, Up: b.Up, Down: b.Down, Operations: b.Operations}
}

func showChanges(changes *traffic.Changes) api.Live {
	message := api.Live{Full: changes.Full, Now: time.Now().UTC(), Sessions: []api.Session{}, Gone: changes.Gone, Transfers: []api.Transfer{},
		Beat: showBeat(changes.Beat), Live: changes.Live, Running: changes.Running}
	if message.Gone == nil {
		message.Gone = []string{}
	}
	for _, info := range changes.Sessions {
		message.Sessions = append(message.Sessions, showSession(info))
	}
	for _, info := range changes.Moves {
		message.Moves = append(message.Moves, api.Move{ID: info.ID, Active: info.Active, Doing: info.Doing, Path: info.Path, Up: info.Up, Down: info.Down})
	}
	for _, t := range changes.Transfers {
		message.Transfers = append(message.Transfers, showTransfer(t))
	}
	for _, t := range changes.Progress {
		message.Progress = append(message.Progress, api.Progress{ID: t.ID, Bytes: t.Bytes, Rate: t.Rate, Left: left(&t)})
	}
	return message
}
