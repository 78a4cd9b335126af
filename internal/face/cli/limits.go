package cli

import (
	"context"
	"flag"
	"fmt"
	"net/http"
	"strconv"
	"time"

	"urbankeep/internal/face/command"
	"urbankeep/internal/keep"
)

// limitFlags are the limits of the service, as flags.
var limitFlags = []struct {
	flag, field, usage string
	time               bool
	of                 func(*keep.Limits) int64
}{
	{"failures-per-address", "failuresPerAddress", "`count` of failed sign-ins until an address is locked out", false, func(l *keep.Limits) int64 { return int64(l.FailuresPerAddress) }},
	{"failures-per-account", "failuresPerAccount", "`count` of failed sign-ins from addresses unknown to an account, until such may try once only", false, func(l *keep.Limits) int64 { return int64(l.FailuresPerAccount) }},
	{"within", "within", "the `time` in which they are counted, as in 10m (a bare number is seconds)", true, func(l *keep.Limits) int64 { return int64(l.Within) }},
	{"lockout", "lockout", "the `time` that a lockout lasts, as in 15m (a bare number is seconds)", true, func(l *keep.Limits) int64 { return int64(l.Lockout) }},
	{"delay", "delay", "the `time` that a failed sign-in takes at least, as in 2s (a bare number is seconds)", true, func(l *keep.Limits) int64 { return int64(l.Delay) }},
	{"attempts", "attempts", "`count` of passwords that one connection may try", false, func(l *keep.Limits) int64 { return int64(l.Attempts) }},
	{"sessions", "sessions", "`count` of sessions at once, in all", false, func(l *keep.Limits) int64 { return int64(l.Sessions) }},
	{"sessions-per-address", "sessionsPerAddress", "`count` of sessions at once, of one address", false, func(l *keep.Limits) int64 { return int64(l.SessionsPerAddress) }},
	{"transfers", "transfers", "`count` of files open for transfers at once, in all", false, func(l *keep.Limits) int64 { return int64(l.Transfers) }},
	{"transfers-per-account", "transfersPerAccount", "`count` of files open at once, of one account", false, func(l *keep.Limits) int64 { return int64(l.TransfersPerHolder) }},
	{"deep-listing", "deepListing", "`count` of files that a WebDAV client may be told of with infinite depth", false, func(l *keep.Limits) int64 { return int64(l.DeepListing) }},
}

func limitCommands() []*command.Command {
	return []*command.Command{
		clientCommand("limits show", "", "Show what the service puts up with from everybody together", "", func(_ *flag.FlagSet, f *common) run {
			return func(ctx context.Context, env command.Env, c *client, _ []string) error {
				return limits(ctx, env, c, f, http.MethodGet, nil)
			}
		}),
		clientCommand("limits set", "", "Change what the service puts up with",
			"It holds at once, for everybody. Accounts and groups have limits of their own besides (account set -max-sessions and the like).", limitsSet),
	}
}

func limitsSet(flags *flag.FlagSet, f *common) run {
	ask := map[string]int64{}
	for _, l := range limitFlags {
		flags.Func(l.flag, l.usage, func(text string) error {
			if l.time {
				var s keep.Seconds
				err := s.UnmarshalText([]byte(text))
				ask[l.field] = int64(s)
				return err
			}
			n, err := strconv.ParseInt(text, 10, 32)
			if err != nil {
				return fmt.Errorf("%q is no whole number", text)
			}
			ask[l.field] = n
			return nil
		})
	}
	return func(ctx context.Context, env command.Env, c *client, _ []string) error {
		if len(ask) == 0 {
			return command.Usagef("say what is to change, as in -lockout 30m; limits show lists them")
		}
		return limits(ctx, env, c, f, http.MethodPatch, ask)
	}
}

func limits(ctx context.Context, env command.Env, c *client, f *common, method string, ask any) error {
	var now keep.Limits
	if err := c.call(ctx, method, "/limits", ask, &now); err != nil {
		return err
	}
	if *f.json {
		return printJSON(env.Out, now)
	}
	var rows [][]string
	for _, l := range limitFlags {
		value := strconv.FormatInt(l.of(&now), 10)
		if l.time {
			value = (time.Duration(l.of(&now)) * time.Second).String()
		}
		_, usage := flag.UnquoteUsage(&flag.Flag{Usage: l.usage})
		rows = append(rows, []string{l.flag, value, usage})
	}
	table(env.Out, "LIMIT|VALUE|WHAT IT IS", rows)
	return nil
}
