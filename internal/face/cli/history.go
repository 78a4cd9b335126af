package cli

import (
	"context"
	"flag"
	"fmt"
	"net/http"
	"net/url"
	"strconv"
	"strings"

	"urbankeep/internal/api"
	"urbankeep/internal/face/command"
)

func historyCommands() []*command.Command {
	return []*command.Command{
		clientCommand("history", "", "List what was changed of the settings, and by whom", "", history),
		clientCommand("undo", "CHANGE", "Take one change of the settings back",
			"What was changed again since is refused until that change is taken back. A password can't be taken back, and\nan account that was deleted comes back without its password and keys.", undo),
		clientCommand("service show", "", "Show what the service is called and where clients reach it", "", serviceShow),
		clientCommand("service set", "", "Say what the service is called and where clients reach it", "", serviceSet),
	}
}

func history(flags *flag.FlagSet, f *common) run {
	what := flags.String("what", "", "only of this `kind`: account, group, listener, store, store-grounds, gate, retention, collector or service")
	of := flags.String("name", "", "only of the one with this `name`")
	most := flags.Int("most", 20, "show at most this `many`, at most 1000")
	return func(ctx context.Context, env command.Env, c *client, _ []string) error {
		query := url.Values{"what": {*what}, "name": {*of}, "limit": {strconv.Itoa(*most)}}
		var page api.Page[api.Change]
		if err := c.call(ctx, http.MethodGet, "/changes?"+query.Encode(), nil, &page); err != nil {
			return err
		}
		if *f.json {
			return printJSON(env.Out, page.Items)
		}
		var rows [][]string
		for _, one := range page.Items {
			rows = append(rows, []string{fmt.Sprint(one.ID), at(&one.At), one.Operator, strings.TrimSpace(one.What + " " + one.Name), sayChange(&one)})
		}
		table(env.Out, "CHANGE|TIME (UTC)#4|OPERATOR#3|OF|BEFORE → AFTER", rows)
		return nil
	}
}

// sayChange says what differs between before and after, field by field.
func sayChange(c *api.Change) string {
	said := c.Says
	if c.Undoes != 0 {
		said = append(said, fmt.Sprintf("(took %d back)", c.Undoes))
	}
	if c.UndoneBy != 0 {
		said = append(said, fmt.Sprintf("(taken back by %d)", c.UndoneBy))
	}
	return strings.Join(said, "; ")
}

func undo(_ *flag.FlagSet, f *common) run {
	return func(ctx context.Context, env command.Env, c *client, args []string) error {
		if _, err := strconv.ParseInt(args[0], 10, 64); err != nil {
			return command.Usagef("%q is no number of a change: history lists them", args[0])
		}
		var made api.Change
		if err := c.call(ctx, http.MethodPost, "/changes/"+args[0]+"/undo", nil, &made); err != nil {
			return err
		}
		if *f.json {
			return printJSON(env.Out, made)
		}
		_, err := fmt.Fprintf(env.Out, "change %s of %s taken back by change %d: %s\n", args[0], strings.TrimSpace(made.What+" "+made.Name), made.ID, safe(sayChange(&made)))
		return err
	}
}

func serviceShow(_ *flag.FlagSet, f *common) run {
	return func(ctx context.Context, env command.Env, c *client, _ []string) error {
		var now api.Identity
		if err := c.call(ctx, http.MethodGet, "/service", nil, &now); err != nil {
			return err
		}
		return sayService(env, f, now)
	}
}

func sayService(env command.Env, f *common, now api.Identity) error {
	if *f.json {
		return printJSON(env.Out, now)
	}
	_, err := fmt.Fprintf(env.Out, "name  %s\nhost  %s\n", dash(now.Name), dash(now.Host))
	return err
}

func serviceSet(flags *flag.FlagSet, f *common) run {
	called := flags.String("name", "", "what the service is `called`, for people")
	host := flags.String("host", "", "the host `name` or IP address under which clients reach it, without a port")
	return func(ctx context.Context, env command.Env, c *client, _ []string) error {
		ask := api.IdentityChange{}
		flags.Visit(func(given *flag.Flag) {
			switch given.Name {
			case "name":
				ask.Name = called
			case "host":
				ask.Host = host
			}
		})
		if ask == (api.IdentityChange{}) {
			return command.Usagef("say what is to change: -name or -host")
		}
		var now api.Identity
		if err := c.call(ctx, http.MethodPatch, "/service", ask, &now); err != nil {
			return err
		}
		return sayService(env, f, now)
	}
}
