package cli

import (
	"context"
	"flag"
	"fmt"
	"net/http"
	"net/url"
	"time"

	"urbankeep/internal/command"
	"urbankeep/internal/keep"
	"urbankeep/internal/web/api"
)

// lifeFlags are when an account may be used, and how often at once.
type lifeFlags struct {
	from, until *string
	sessions    *int
	upload      int64
}

func declareLife(flags *flag.FlagSet) *lifeFlags {
	l := &lifeFlags{from: flags.String("valid-from", "", "the `day` or time its time begins; \"always\" takes it away"),
		until:    flags.String("valid-until", "", "the `day` (2027-03-01, at its first moment in UTC) or time (RFC 3339) its time ends, and its sessions with it; \"never\" takes it away"),
		sessions: flags.Int("max-sessions", 0, "how `many` sessions it may have at once; 0 is any number")}
	flags.Func("max-upload", "the largest file it may write, a `size` as in 500M or 2GiB; 0 is any size", func(text string) (err error) {
		l.upload, err = keep.ParseSize("-max-upload", text)
		return err
	})
	return l
}

func (l *lifeFlags) times() (from, until *time.Time, err error) {
	if from, err = parseDay("-valid-from", *l.from, "always"); err != nil {
		return nil, nil, err
	}
	until, err = parseDay("-valid-until", *l.until, "never")
	return from, until, err
}

func validity(a api.Account) string {
	switch {
	case a.ValidFrom == nil && a.ValidUntil == nil:
		return "always"
	case a.ValidUntil == nil:
		return "from " + at(a.ValidFrom) + " UTC"
	case a.ValidFrom == nil:
		return "until " + at(a.ValidUntil) + " UTC"
	}
	return at(a.ValidFrom) + " to " + at(a.ValidUntil) + " UTC"
}

func largest(a api.Account) string {
	if a.MaxUpload == 0 {
		return "any size"
	}
	return size(a.MaxUpload)
}

func liveSessions(a api.Account) string {
	if a.MaxSessions == 0 {
		return fmt.Sprint(a.Sessions)
	}
	return fmt.Sprintf("%d of at most %d", a.Sessions, a.MaxSessions)
}

func explain(flags *flag.FlagSet, f *common) run {
	when := flags.String("at", "", "the day or `time` (RFC 3339) it is asked for; else now")
	from := flags.String("from", "", "the IP `address` it is asked for")
	return func(ctx context.Context, env command.Env, c *client, args []string) error {
		query := url.Values{"right": {args[1]}, "path": {args[2]}}
		if *from != "" {
			query.Set("from", *from)
		}
		t, err := parseDay("-at", *when, "")
		if err != nil {
			return err
		}
		if t != nil {
			query.Set("at", t.Format(time.RFC3339))
		}
		var answer api.Explanation
		if err := c.call(ctx, http.MethodGet, "/accounts/"+name(args[0])+"/explain?"+query.Encode(), nil, &answer); err != nil {
			return err
		}
		if *f.json {
			err = printJSON(env.Out, answer)
		} else {
			var rows [][]string
			for _, s := range answer.Steps {
				rows = append(rows, []string{s.Name, map[bool]string{true: "yes", false: "NO"}[s.OK], s.Say})
			}
			table(env.Out, "STEP|MAY|WHY", rows)
		}
		if err == nil && !answer.Allowed {
			return fmt.Errorf("%s may not %s %s", args[0], args[1], args[2])
		}
		return err
	}
}
