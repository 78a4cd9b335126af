package cli

import (
	"cmp"
	"context"
	"flag"
	"fmt"
	"net/http"
	"strconv"
	"strings"

	"urbankeep/internal/api"
	"urbankeep/internal/face/command"
)

const shelfHelp = `A key on the shelf has a name, and accounts have it by that: what changes of it, or takes its place, changes for all of them.`

func shelfCommands() []*command.Command {
	return []*command.Command{
		clientCommand("shelf list", "", "List the SSH public keys that accounts have by reference", "", shelfList),
		clientCommand("shelf add", "NAME FILE", "Put an SSH public key on the shelf", shelfHelp+"\n"+keyHelp, shelfAdd),
		clientCommand("shelf set", "NAME", "Change a key on the shelf, or put another in its place", "What was signed in with the key before ends when another takes its place.", shelfSet),
		clientCommand("shelf remove", "NAME", "Take a key from the shelf that no account has", "", func(_ *flag.FlagSet, f *common) run {
			return deletion(f, "/shelf/", "%s removed from the shelf\n")
		}),
		clientCommand("shelf attach", "NAME ACCOUNT [ACCOUNT ...]", "Give accounts a key from the shelf", "", shelfAttach),
		clientCommand("shelf detach", "NAME ACCOUNT [ACCOUNT ...]", "Take a key from the shelf away from accounts, and end what it signed in", "", shelfDetach),
	}
}

func shelfList(_ *flag.FlagSet, f *common) run {
	return func(ctx context.Context, env command.Env, c *client, _ []string) error {
		var page api.Page[api.ShelfKey]
		if err := c.call(ctx, http.MethodGet, "/shelf", nil, &page); err != nil {
			return err
		}
		if *f.json {
			return printJSON(env.Out, page.Items)
		}
		var rows [][]string
		for _, k := range page.Items {
			ends := ""
			if k.Expires != nil {
				ends = at(k.Expires)
			}
			rows = append(rows, []string{k.Name, k.Owner, k.Type, strength(k.Bits, k.Strength), k.Fingerprint, strconv.Itoa(len(k.Accounts)), at(&k.Created), at(k.LastUsed), ends, k.Note})
		}
		table(env.Out, "KEY|OWNER|TYPE#4|STRENGTH#5|FINGERPRINT#2|ACCOUNTS|SINCE ("+zoneName()+")#3|LAST USED|ENDS|NOTE#6", rows)
		return nil
	}
}

// shelfFlags are what flags say of a key on the shelf.
func shelfFlags(flags *flag.FlagSet) func() (api.ShelfAsk, error) {
	var ask api.ShelfAsk
	text := func(name, usage string, into **string) {
		flags.Func(name, usage, func(text string) error { *into = &text; return nil })
	}
	text("owner", "who has the private `half`, as in \"print bureau, Maren\"", &ask.Owner)
	text("note", "`note` for the list", &ask.Note)
	expires := flags.String("expires", "", "the `day` (its first moment in UTC) or time at which it stops working, as in 2027-03-01 or +90d; never for none")
	from := flags.String("from", "", "`networks` it may be used from, as in 192.0.2.0/24; or everybody")
	return func() (_ api.ShelfAsk, err error) {
		if ask.Expires, err = parseDay("-expires", *expires, "never"); err != nil {
			return ask, err
		}
		if *from != "" {
			list, err := keyRules{from: from}.networks()
			if err != nil {
				return ask, err
			}
			ask.Networks = &list
		}
		return ask, nil
	}
}

func shelfSay(env command.Env, f *common, k api.ShelfKey, did string) error {
	if *f.json {
		return printJSON(env.Out, k)
	}
	of := ""
	if k.Owner != "" {
		of = ", of " + k.Owner
	}
	_, err := fmt.Fprintf(env.Out, "%s %s: %s %s%s; accounts: %s\n", k.Name, did, k.Type, k.Fingerprint, of, cmp.Or(strings.Join(k.Accounts, " "), "none"))
	return err
}

func shelfAdd(flags *flag.FlagSet, f *common) run {
	said := shelfFlags(flags)
	authority := flags.Bool("authority", false, "it is the key of an authority: user certificates that it signed for an account's name are taken")
	return func(ctx context.Context, env command.Env, c *client, args []string) error {
		ask, err := said()
		if err != nil {
			return err
		}
		text, err := readKeys(env, args[1])
		if err != nil {
			return err
		}
		ask.Name, ask.Key, ask.Authority = args[0], &text, *authority
		var k api.ShelfKey
		if err := c.call(ctx, http.MethodPost, "/shelf", ask, &k); err != nil {
			return err
		}
		return shelfSay(env, f, k, "is on the shelf")
	}
}

func shelfSet(flags *flag.FlagSet, f *common) run {
	said := shelfFlags(flags)
	file := flags.String("key", "", "`file` with the public key that takes its place; - is standard input")
	return func(ctx context.Context, env command.Env, c *client, args []string) error {
		ask, err := said()
		if err != nil {
			return err
		}
		if *file != "" {
			text, err := readKeys(env, *file)
			if err != nil {
				return err
			}
			ask.Key = &text
		}
		if ask == (api.ShelfAsk{}) {
			return command.Usagef("say what is to change, as in -key NEW.pub or -expires +90d")
		}
		var k api.ShelfKey
		if err := c.call(ctx, http.MethodPatch, "/shelf/"+name(args[0]), ask, &k); err != nil {
			return err
		}
		return shelfSay(env, f, k, c.now("changed"))
	}
}

func shelfAttach(_ *flag.FlagSet, f *common) run {
	return func(ctx context.Context, env command.Env, c *client, args []string) error {
		var k api.ShelfKey
		if err := c.call(ctx, http.MethodPost, "/shelf/"+name(args[0])+"/accounts", api.ShelfAttach{Accounts: args[1:]}, &k); err != nil {
			return err
		}
		return shelfSay(env, f, k, "attached")
	}
}

func shelfDetach(_ *flag.FlagSet, _ *common) run {
	return func(ctx context.Context, env command.Env, c *client, args []string) error {
		for _, account := range args[1:] {
			if err := c.call(ctx, http.MethodDelete, "/shelf/"+name(args[0])+"/accounts/"+name(account), nil, nil); err != nil {
				return err
			}
			fmt.Fprintf(env.Out, "%s taken away from %s\n", args[0], account)
		}
		return nil
	}
}
