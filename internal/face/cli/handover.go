package cli

import (
	"context"
	"flag"
	"fmt"
	"net/http"
	"net/url"
	"os"

	"urbankeep/internal/api"
	"urbankeep/internal/face/command"
)

func handoverCommands() []*command.Command {
	return []*command.Command{
		clientCommand("handover", "ACCOUNT", "Write the sheet for whoever will connect as an account", "There is no secret in it; password-link hands over a password.", handOver),
		clientCommand("password-link", "ACCOUNT", "Make a link that shows a new password once", "The link leads to the console, so whoever opens it must reach that. The password is in no list, log or record.", passwordLink),
	}
}

func handOver(flags *flag.FlagSet, f *common) run {
	host := flags.String("host", "", "the host `name` or address that they will come to; else that of service set")
	markdown := flags.Bool("markdown", false, "write Markdown")
	out := flags.String("out", "", "write it to a `file`")
	return func(ctx context.Context, env command.Env, c *client, args []string) error {
		format := "text"
		switch {
		case *f.json:
			format = "json"
		case *markdown:
			format = "markdown"
		}
		query := url.Values{"host": {*host}, "format": {format}}
		text, err := c.raw(ctx, http.MethodGet, "/accounts/"+name(args[0])+"/handover?"+query.Encode(), nil)
		if err != nil {
			return err
		}
		if *out != "" {
			if err := os.WriteFile(*out, text, 0o644); err != nil {
				return fmt.Errorf("write the sheet: %w", err)
			}
			_, err = fmt.Fprintf(env.Out, "the sheet for %s is in %s\n", args[0], *out)
			return err
		}
		_, err = env.Out.Write(text)
		return err
	}
}

func passwordLink(flags *flag.FlagSet, f *common) run {
	days := flags.Int("days", 3, "how many `days` the link works, at most 30")
	keep := flags.Bool("keep", false, "the password need not be changed at the first sign-in")
	return func(ctx context.Context, env command.Env, c *client, args []string) error {
		var made api.PasswordLink
		if err := c.call(ctx, http.MethodPost, "/accounts/"+name(args[0])+"/password-link", api.PasswordLinkNew{Days: *days, MustChange: !*keep}, &made); err != nil {
			return err
		}
		if *f.json {
			return printJSON(env.Out, made)
		}
		_, err := fmt.Fprintf(env.Out, "%s has a new password. This link shows it once, until %s (%s):\n  %s\n", args[0], at(&made.Expires), zoneName(), made.Link)
		if err == nil && made.Shut != "" {
			_, err = fmt.Fprintln(env.Err, made.Shut)
		}
		return err
	}
}
