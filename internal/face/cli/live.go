package cli

import (
	"bufio"
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"maps"
	"net/http"
	"os"
	"slices"
	"strings"
	"time"

	"golang.org/x/term"

	"urbankeep/internal/api"
	"urbankeep/internal/face/command"
)

// maxEvent bounds one message of the live stream, bytes.
const maxEvent = 64 << 20

func sessionWatch(_ *flag.FlagSet, f *common) run {
	return func(ctx context.Context, env command.Env, c *client, _ []string) error {
		response, err := c.ask(ctx, http.MethodGet, "/live", nil)
		if err != nil {
			return err
		}
		defer response.Body.Close()
		now := &living{sessions: map[string]api.Session{}, running: map[string]api.Transfer{}}
		show := now.lines
		if file, ok := env.Out.(*os.File); ok && term.IsTerminal(int(file.Fd())) {
			show = now.screen
		}
		lines := bufio.NewScanner(response.Body)
		lines.Buffer(nil, maxEvent)
		for lines.Scan() {
			text, isData := bytes.CutPrefix(lines.Bytes(), []byte("data: "))
			if !isData {
				continue
			}
			if *f.json {
				if _, err := fmt.Fprintf(env.Out, "%s\n", text); err != nil {
					return err
				}
				continue
			}
			var change api.Live
			if err := json.Unmarshal(text, &change); err != nil {
				return fmt.Errorf("the stream is not understood: %w", err)
			}
			show(env, now.take(change))
		}
		if ctx.Err() != nil {
			return nil // Ctrl-C
		}
		return errors.Join(errors.New("the service ended the stream: is it stopping?"), lines.Err())
	}
}

// living is what goes on now, as the stream has told.
type living struct {
	sessions map[string]api.Session
	running  map[string]api.Transfer
}

// news is what a change brought.
type news struct {
	came, went []api.Session
	ended      []api.Transfer
	at         string
	now        api.Live
}

// take brings a change in.
func (l *living) take(c api.Live) news {
	n := news{at: in(c.Now).Format("15:04:05"), now: c}
	if c.Full {
		clear(l.sessions)
		clear(l.running)
	}
	for _, s := range c.Sessions {
		if _, known := l.sessions[s.ID]; !known {
			n.came = append(n.came, s)
		}
		l.sessions[s.ID] = s
	}
	for _, t := range c.Transfers {
		if t.Outcome == "running" {
			l.running[t.ID] = t
			continue
		}
		delete(l.running, t.ID)
		if !c.Full {
			n.ended = append(n.ended, t)
		}
	}
	for _, m := range c.Moves {
		if s, known := l.sessions[m.ID]; known {
			s.Active, s.Doing, s.Path, s.Up, s.Down = m.Active, m.Doing, m.Path, m.Up, m.Down
			l.sessions[m.ID] = s
		}
	}
	for _, p := range c.Progress {
		if t, known := l.running[p.ID]; known {
			t.Bytes, t.Rate, t.Left = p.Bytes, p.Rate, p.Left
			l.running[p.ID] = t
		}
	}
	for _, id := range c.Gone {
		delete(l.running, id)
		if s, known := l.sessions[id]; known {
			n.went = append(n.went, s)
			delete(l.sessions, id)
		}
	}
	return n
}

// lines prints what happened, a line each: for pipes and logs.
func (l *living) lines(env command.Env, n news) {
	session := func(word string, s api.Session) {
		fmt.Fprintln(env.Out, safe(fmt.Sprintf("%s  %-4s  %s  %s from %s over %s", n.at, word, s.ID, s.Account, s.Address, over(string(s.Protocol), s.Encrypted))))
	}
	for _, s := range n.came {
		session("in", s)
	}
	for _, t := range n.ended {
		fmt.Fprintln(env.Out, safe(fmt.Sprintf("%s  %-4s  %s  %s %s %s, %s in %s, %s", n.at, "file", t.Session, t.Account, t.Action, t.Path, size(t.Bytes), span(t.Seconds), ended(t.Outcome, string(t.Reason)))))
	}
	for _, s := range n.went {
		session("out", s)
	}
}

// screen draws everything anew, as much as fits: transfers first, the sessions that
// did something last below them. The control sequences are those of ECMA-48: home, and
// erase to the end.
func (l *living) screen(env command.Env, n news) {
	width, height, err := term.GetSize(int(env.Out.(*os.File).Fd()))
	if err != nil {
		width, height = 120, 40
	}
	var page bytes.Buffer
	fmt.Fprintf(&page, "%s %s  %d sessions, %d transfers  in %s/s  out %s/s  %d operations/s  Ctrl-C ends\n\n", n.at, zoneName(), n.now.Live, n.now.Running,
		size(n.now.Beat.Up), size(n.now.Beat.Down), n.now.Beat.Operations)
	var rows [][]string
	for _, t := range slices.SortedFunc(maps.Values(l.running), func(a, b api.Transfer) int { return a.Started.Compare(b.Started) }) {
		rows = append(rows, []string{t.Account, string(t.Action), t.Path, progress(t), size(t.Rate) + "/s", left(t), t.ID})
	}
	if room := max(3, height/2-3); len(rows) > 0 {
		table(&page, "ACCOUNT|DOES|PATH|MOVED|RATE|LEFT|TRANSFER", rows[:min(len(rows), room)])
		fmt.Fprintln(&page)
	}
	rows = nil
	for _, s := range slices.SortedFunc(maps.Values(l.sessions), func(a, b api.Session) int { return cmp.Or(b.Active.Compare(a.Active), cmp.Compare(a.ID, b.ID)) }) {
		rows = append(rows, []string{s.Account, s.Address, over(string(s.Protocol), s.Encrypted), in(s.Started).Format("15:04:05"), idle(n.now.Now.Sub(s.Active)), string(s.Doing) + " " + s.Path, size(s.Up), size(s.Down), s.ID})
	}
	table(&page, "ACCOUNT|FROM|OVER|SINCE|IDLE|DID|UP|DOWN|SESSION", rows)
	lines := strings.SplitAfter(page.String(), "\n")
	var shown strings.Builder
	for _, line := range lines[:min(len(lines), height-1)] {
		if text := []rune(strings.TrimSuffix(line, "\n")); len(text) > width {
			line = string(text[:width-1]) + "…\n"
		}
		shown.WriteString(strings.ReplaceAll(line, "\n", "\x1b[K\n"))
	}
	fmt.Fprint(env.Out, "\x1b[H"+shown.String()+"\x1b[J")
}

// idle shows for how long nothing was done.
func idle(d time.Duration) string {
	if d < time.Second {
		return "-"
	}
	return d.Truncate(time.Second).String()
}

// progress says how far a running transfer is.
func progress(t api.Transfer) string {
	if t.Total <= 0 {
		return size(t.Bytes)
	}
	return fmt.Sprintf("%s of %s (%d%%)", size(t.Offset+t.Bytes), size(t.Total), 100*(t.Offset+t.Bytes)/t.Total)
}

// left says how long it will take at the rate it had, "-" where that can't be known.
func left(t api.Transfer) string {
	if t.Left == nil {
		return "-"
	}
	return span(*t.Left)
}
