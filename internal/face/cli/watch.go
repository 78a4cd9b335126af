package cli

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"net/http"
	"net/url"
	"strings"

	"urbankeep/internal/api"
	"urbankeep/internal/face/command"
	"urbankeep/internal/keep"
)

func watchCommands() []*command.Command {
	return []*command.Command{
		clientCommand("session list", "", "List the live sessions", "", sessionList),
		clientCommand("session watch", "", "Show live sessions and transfers as they change", "", sessionWatch),
		clientCommand("session end", "SESSION", "End a live session", "", ending("/sessions/", "session")),
		clientCommand("transfer list", "", "List transfers: those that run, then the newest", "", transferList),
		clientCommand("transfer end", "TRANSFER", "End a running transfer and leave its session alone", "The client is told; transfer list and session watch show the names of transfers.", ending("/transfers/", "transfer")),
		clientCommand("traffic", "", "Show traffic over time, by account, address, file …",
			"-by hour, day or second shows when; with everything else it shows who or what had how much of it, and narrows:\n  traffic -by account, then traffic -by file -account NAME, then audit -account NAME -path FILE", trafficShow),
		clientCommand("status", "", "Show how the service is", "", status),
		clientCommand("ready", "", "Say whether the service does all of its work", "For health checks: the exit status is 0 when it does, and 1 when not. Balancers ask /readyz of a web listener, or /healthz\nwhether it lives at all.", ready),
	}
}

func sessionList(flags *flag.FlagSet, f *common) run {
	text := textFlag(flags, "account, address, software or path")
	return func(ctx context.Context, env command.Env, c *client, _ []string) error {
		all, err := everyOne[api.Session](ctx, c, "/sessions", url.Values{"text": {*text}})
		if err != nil {
			return err
		}
		if *f.json {
			return printJSON(env.Out, all)
		}
		var rows [][]string
		for _, s := range all {
			rows = append(rows, []string{s.ID, s.Account, s.Address, over(string(s.Protocol), s.Encrypted), at(&s.Started), string(s.Doing) + " " + s.Path,
				size(s.Up), size(s.Down), dash(s.Client)})
		}
		table(env.Out, "SESSION|ACCOUNT|FROM#3|OVER#4|SINCE#5|DOES|UP#6|DOWN#7|CLIENT#8", rows)
		return nil
	}
}

// ending ends a session or a transfer.
func ending(path, noun string) func(*flag.FlagSet, *common) run {
	return func(flags *flag.FlagSet, f *common) run {
		reason := flags.String("reason", "", "`why`: told to the client, and recorded")
		return func(ctx context.Context, env command.Env, c *client, args []string) error {
			if err := c.call(ctx, http.MethodDelete, path+name(args[0])+"?"+url.Values{"reason": {*reason}}.Encode(), nil, nil); err != nil {
				return err
			}
			if *f.json {
				return printJSON(env.Out, map[string]string{"ended": args[0]})
			}
			fmt.Fprintf(env.Out, "%s %s ended\n", noun, args[0])
			return nil
		}
	}
}

// joined is the words of a closed set, for a flag that takes one of them.
func joined[T ~string](known []T) string {
	texts := make([]string, len(known))
	for i, k := range known {
		texts[i] = string(k)
	}
	return strings.Join(texts, ", ")
}

// queryFlags are the flags that narrow a search of the trail.
func queryFlags(flags *flag.FlagSet, words ...string) func() url.Values {
	says := map[string]string{
		"account": "only of this `account`", "group": "only of accounts of this `group`", "mount": "only in this `mount`, as in files:shared", "operator": "only of this `operator`", "address": "only from this `address`",
		"protocol": "only over this `protocol`: ftp, ftps, sftp, portal, console", "session": "only of this `session`",
		"action": "only these `actions`, joined by commas: " + joined(keep.Actions), "outcome": "only with this `outcome`: done, refused, failed, interrupted",
		"network": "only from these `networks`, as in 192.0.2.0/24", "has": "only with this `part` in the path", "text": "only with this `part` anywhere", "reason": "only with this `reason`: " + joined(keep.Reasons),
		"path": "only this `path` and what is below it", "since": "only from this `time` on, as in 2026-03-01, 2026-03-01T18:00 (UTC), -7d or today", "until": "only before this `time`",
	}
	values := map[string]*string{}
	for _, word := range words {
		values[word] = flags.String(word, "", says[word])
	}
	return func() url.Values {
		query := url.Values{}
		for word, value := range values {
			if *value != "" {
				query.Set(word, *value)
			}
		}
		return query
	}
}

// newest reads items from a list until it has as many as wanted.
func newest[T any](ctx context.Context, c *client, path string, query url.Values, want int) ([]T, error) {
	if want < 1 {
		return nil, command.Usagef("-most must be at least 1")
	}
	query.Set("limit", fmt.Sprint(min(want, 1000)))
	all := []T{}
	err := everyPage(ctx, c, path, query, "before", func(items []T) bool {
		all = append(all, items...)
		return len(all) < want
	})
	return all[:min(want, len(all))], err
}

func transferList(flags *flag.FlagSet, f *common) run {
	query := queryFlags(flags, "account", "address", "protocol", "session", "outcome", "path", "since", "until")
	most := flags.Int("most", 50, "how `many` at the most")
	return func(ctx context.Context, env command.Env, c *client, _ []string) error {
		found, err := newest[api.Transfer](ctx, c, "/transfers", query(), *most)
		if err != nil {
			return err
		}
		if *f.json {
			return printJSON(env.Out, found)
		}
		var rows [][]string
		for _, t := range found {
			rows = append(rows, []string{at(&t.Started), t.Account, t.Address, over(string(t.Protocol), t.Encrypted), string(t.Action), t.Path,
				size(t.Bytes), span(t.Seconds), rate(t.Bytes, t.Seconds), outcomeOf(&t)})
		}
		table(env.Out, "STARTED (UTC)|ACCOUNT|FROM#5|OVER#6|DID|PATH|SIZE#4|TOOK#7|RATE#8|OUTCOME", rows)
		return nil
	}
}

// outcomeOf shows how a transfer ended, or how far it is and its name.
func outcomeOf(t *api.Transfer) string {
	if t.Outcome != "running" {
		return ended(t.Outcome, string(t.Reason))
	}
	say := "running"
	if t.Total > 0 {
		say += fmt.Sprintf(", %d%%", 100*(t.Offset+t.Bytes)/t.Total)
	}
	if t.Left != nil {
		say += ", " + span(*t.Left) + " left"
	}
	return say + ": " + t.ID
}

// ended shows an outcome and its reason.
func ended(outcome, reason string) string {
	if reason == "" {
		return outcome
	}
	return outcome + ": " + reason
}

func ready(_ *flag.FlagSet, f *common) run {
	return func(ctx context.Context, env command.Env, c *client, _ []string) error {
		var s api.Status
		if err := c.call(ctx, http.MethodGet, "/status", nil, &s); err != nil {
			return err
		}
		if len(s.Problems) > 0 {
			return errors.New("not ready: " + strings.Join(s.Problems, "; "))
		}
		if *f.json {
			return printJSON(env.Out, map[string]bool{"ready": true})
		}
		_, err := fmt.Fprintln(env.Out, "ready")
		return err
	}
}

func status(_ *flag.FlagSet, f *common) run {
	return func(ctx context.Context, env command.Env, c *client, _ []string) error {
		var s api.Status
		if err := c.call(ctx, http.MethodGet, "/status", nil, &s); err != nil {
			return err
		}
		if *f.json {
			return printJSON(env.Out, s)
		}
		fmt.Fprintf(env.Out, "running since %s %s, sessions %d, running transfers %d\n", at(&s.Started), zoneName(), s.Sessions, s.Transfers)
		if !s.SetUp {
			fmt.Fprintln(env.Out, "no operator yet: the set-up link stands in the output of serve")
		}
		for _, problem := range s.Problems {
			fmt.Fprintln(env.Out, "PROBLEM:", problem)
		}
		fmt.Fprintln(env.Out)
		listenerTable(env, s.Listeners)
		return nil
	}
}
