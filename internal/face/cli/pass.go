package cli

import (
	"cmp"
	"context"
	"flag"
	"fmt"
	"net/http"
	"net/url"
	"strings"

	"urbankeep/internal/api"
	"urbankeep/internal/face/command"
	"urbankeep/internal/keep"
)

func passCommands() []*command.Command {
	return []*command.Command{
		clientCommand("pass add", "ACCOUNT PATH [PATH ...]", "Make a link for somebody without an account",
			"With it files are fetched, or with -drop left. It is printed once. It gives no more than the account may do at that moment: narrower rights, suspension and deletion act on it at once.", passAdd),
		clientCommand("pass list", "", "List the links that are open to outsiders", "", passList),
		clientCommand("pass uses", "ID", "Show who used a link, when, from where, and how much", "", passUses),
		clientCommand("pass end", "[ID]", "End a link, or all of an account; what is done with it ends too", "", passEnd),
	}
}

func passAdd(flags *flag.FlagSet, f *common) run {
	var ask api.PassNew
	drop := flags.Bool("drop", false, "files are left in the folder, not fetched")
	flags.Float64Var(&ask.Days, "days", 7, "how many `days` it works, at most 366")
	password := flags.Bool("password", false, "it asks for a password; asks for it, else reads it from standard input")
	flags.StringVar(&ask.Text, "text", "", "`text` for whoever opens it")
	flags.StringVar(&ask.Note, "note", "", "`note` for the list")
	flags.Int64Var(&ask.MaxUses, "uses", 0, "how `many` uses; a use is what one address does until it is quiet for half an hour. 0 is any number")
	most := flags.String("bytes", "0", "most bytes it may move, a `size` as in 500M, 2GiB; 0 is any")
	networks := flags.String("networks", "", "`networks` from which it works, as in 192.0.2.0/24; else from everywhere")
	flags.BoolVar(&ask.Shows, "shows", false, "with -drop: whoever leaves files sees, and may fetch, what is there")
	flags.BoolVar(&ask.Asks, "asks", false, "with -drop: ask for a name, an e-mail address and a message")
	flags.BoolVar(&ask.Apart, "apart", false, "with -drop: a folder of its own for what each visitor leaves")
	flags.StringVar(&ask.MailTo, "mail", "", "mail the link to this `address`")
	return func(ctx context.Context, env command.Env, c *client, args []string) error {
		var err error
		if ask.MaxBytes, err = keep.ParseSize("bytes", *most); err != nil {
			return command.Usagef("%s", err)
		}
		ask.Account, ask.Paths, ask.Kind = args[0], args[1:], keep.FetchPass
		if *drop {
			ask.Kind = keep.DropPass
		}
		if *networks != "" {
			ask.Networks = strings.Split(*networks, ",")
		}
		if *password {
			given, err := askPassword(env, "the link")
			if err != nil {
				return err
			}
			ask.Password = given
		}
		var made api.PassMade
		if err := c.call(ctx, http.MethodPost, "/passes", ask, &made); err != nil {
			return err
		}
		if *f.json {
			return printJSON(env.Out, made)
		}
		fmt.Fprintf(env.Out, "pass %s of %s: %s, until %s (%s)\n  %s\n", made.Pass.ID, made.Pass.Account, given(&made.Pass), at(&made.Pass.Expires), zoneName(), made.Link)
		if made.Mailed != "" {
			fmt.Fprintln(env.Out, " ", made.Mailed)
		}
		if made.MailError != "" {
			return fmt.Errorf("the pass is made, but its link was not mailed: %s", made.MailError)
		}
		if made.Shut != "" {
			fmt.Fprintln(env.Err, made.Shut)
		}
		return nil
	}
}

// given says what a pass gives.
func given(p *api.Pass) string {
	return string(p.Kind) + " " + strings.Join(p.Paths, " ")
}

func passList(flags *flag.FlagSet, f *common) run {
	account := flags.String("account", "", "those of one `account`")
	ended := flags.Bool("ended", false, "also those that have ended in the last 90 days")
	return func(ctx context.Context, env command.Env, c *client, _ []string) error {
		query := url.Values{"account": {*account}, "ended": {fmt.Sprint(*ended)}}
		all := []api.Pass{}
		err := everyPage(ctx, c, "/passes", query, "after", func(items []api.Pass) bool {
			all = append(all, items...)
			return true
		})
		if err != nil {
			return err
		}
		if *f.json {
			return printJSON(env.Out, all)
		}
		var rows [][]string
		for _, p := range all {
			uses := fmt.Sprint(p.Uses)
			if p.MaxUses > 0 {
				uses += fmt.Sprintf(" of %d", p.MaxUses)
			}
			end := at(&p.Expires)
			if p.Ended != nil {
				end = "ended " + at(p.Ended)
			}
			rows = append(rows, []string{p.ID, p.Account, string(p.Kind), strings.Join(p.Paths, " "), map[bool]string{true: "yes", false: "NO"}[p.Password], end, uses, keep.SaySize(p.Bytes), at(p.LastUsed), cmp.Or(p.By, "holder"), p.Note})
		}
		table(env.Out, "PASS|ACCOUNT|FOR|PATHS|PASSWORD#2|ENDS ("+zoneName()+")|USES#3|MOVED#4|LAST USED#6|MADE BY#5|NOTE#7", rows)
		return nil
	}
}

func passUses(_ *flag.FlagSet, f *common) run {
	return func(ctx context.Context, env command.Env, c *client, args []string) error {
		var page api.Page[api.PassUse]
		if err := c.call(ctx, http.MethodGet, "/passes/"+name(args[0])+"/uses", nil, &page); err != nil {
			return err
		}
		if *f.json {
			return printJSON(env.Out, page.Items)
		}
		var rows [][]string
		for _, u := range page.Items {
			who := u.Name
			if u.Mail != "" {
				who += " <" + u.Mail + ">"
			}
			rows = append(rows, []string{at(&u.Began), at(&u.Last), u.Address, fmt.Sprint(u.Files), keep.SaySize(u.Bytes), cmp.Or(who, "-"), cmp.Or(strings.Join(strings.Fields(u.Message), " "), "-"), u.Session})
		}
		table(env.Out, "BEGAN ("+zoneName()+")|LAST|ADDRESS|FILES|MOVED|WHO|MESSAGE|SESSION", rows)
		return nil
	}
}

func passEnd(flags *flag.FlagSet, f *common) run {
	account := flags.String("account", "", "all of this `account`")
	return func(ctx context.Context, env command.Env, c *client, args []string) error {
		if (len(args) == 1) == (*account != "") {
			return command.Usagef("it takes the number of a pass, or -account")
		}
		if *account != "" {
			var ended api.PassesEnded
			if err := c.call(ctx, http.MethodDelete, "/accounts/"+name(*account)+"/passes", nil, &ended); err != nil {
				return err
			}
			if *f.json {
				return printJSON(env.Out, ended)
			}
			_, err := fmt.Fprintf(env.Out, "%d passes of %s ended\n", ended.Ended, *account)
			return err
		}
		return deletion(f, "/passes/", "pass %s ended\n")(ctx, env, c, args)
	}
}
