package cli

import (
	"context"
	"flag"
	"net/http"
	"net/url"

	"urbankeep/internal/api"
	"urbankeep/internal/face/command"
)

func lockCommands() []*command.Command {
	return []*command.Command{
		clientCommand("lock list", "", "List the locks that WebDAV clients hold now", "", lockList),
		clientCommand("lock break", "ID", "End a lock of a WebDAV client that does not end it itself", "", lockBreak),
	}
}

func lockList(flags *flag.FlagSet, f *common) run {
	account := flags.String("account", "", "those of one `account`")
	return func(ctx context.Context, env command.Env, c *client, _ []string) error {
		var page api.Page[api.Lock]
		if err := c.call(ctx, http.MethodGet, "/locks?"+url.Values{"account": {*account}}.Encode(), nil, &page); err != nil {
			return err
		}
		if *f.json {
			return printJSON(env.Out, page.Items)
		}
		var rows [][]string
		for _, l := range page.Items {
			rows = append(rows, []string{l.ID, l.Account, l.Store + ":" + l.Path, map[bool]string{true: "all in it", false: "it alone"}[l.Deep], map[bool]string{true: "shared", false: "exclusive"}[l.Shared], at(&l.Created), at(&l.Expires)})
		}
		table(env.Out, "LOCK|ACCOUNT|PLACE|HOLDS FOR|KIND|SINCE ("+zoneName()+")|UNTIL", rows)
		return nil
	}
}

func lockBreak(_ *flag.FlagSet, f *common) run { return deletion(f, "/locks/", "lock %s broken\n") }
