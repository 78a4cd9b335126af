package cli

import (
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

func groupCommands() []*command.Command {
	return []*command.Command{
		clientCommand("group add", "NAME", "Add a group that accounts inherit from", treeHelp, groupAdd),
		clientCommand("group list", "", "List the groups and who is in them", "", groupList),
		clientCommand("group show", "NAME", "Show a group", "", groupShow),
		clientCommand("group set", "NAME", "Change a group; it holds for its accounts at once", treeHelp, groupSet),
		clientCommand("group delete", "NAME", "Delete a group that no account is in", "", groupDelete),
	}
}

func groupAdd(flags *flag.FlagSet, f *common) run {
	tree, settings := declareTree(flags), declareSettings(flags)
	note := flags.String("note", "", "a `note` for operators")
	return func(ctx context.Context, env command.Env, c *client, args []string) error {
		ask := api.GroupNew{Name: args[0], Note: *note, Settings: settings}
		var err error
		if ask.Mounts, ask.Grants, err = tree.apply([]keep.Mount{}, []keep.Grant{}); err != nil {
			return err
		}
		var g api.Group
		if err := c.call(ctx, http.MethodPost, "/groups", ask, &g); err != nil {
			return err
		}
		return sayGroup(env, f, g, "added")
	}
}

func sayGroup(env command.Env, f *common, g api.Group, what string) error {
	if *f.json {
		return printJSON(env.Out, g)
	}
	fmt.Fprintf(env.Out, "group %s %s\n", g.Name, what)
	if len(g.Mounts) > 0 && len(g.Grants) == 0 {
		fmt.Fprintf(env.Out, "It gives no rights: accounts may do nothing where nobody else gives them any (group set %s -rights full).\n", g.Name)
	}
	return nil
}

func groupSet(flags *flag.FlagSet, f *common) run {
	tree, settings := declareTree(flags), declareSettings(flags)
	tree.declareChange(flags)
	note := flags.String("note", "", "a `note` for operators")
	return func(ctx context.Context, env command.Env, c *client, args []string) error {
		var now api.Group
		if err := c.call(ctx, http.MethodGet, "/groups/"+name(args[0]), nil, &now); err != nil {
			return err
		}
		mounts, grants, err := tree.apply(now.Mounts, now.Grants)
		if err != nil {
			return err
		}
		ask := api.GroupChange{Settings: settings, Mounts: &mounts, Grants: &grants}
		flags.Visit(func(given *flag.Flag) {
			if given.Name == "note" {
				ask.Note = note
			}
		})
		var g api.Group
		if err := c.call(ctx, http.MethodPatch, "/groups/"+name(args[0]), ask, &g); err != nil {
			return err
		}
		return sayGroup(env, f, g, c.now(fmt.Sprintf("changed; it holds for %s at once", keep.SayMany(g.Members, "account"))))
	}
}

func groupList(flags *flag.FlagSet, f *common) run {
	text := textFlag(flags, "name or note")
	return func(ctx context.Context, env command.Env, c *client, _ []string) error {
		all, err := everyOne[api.Group](ctx, c, "/groups", url.Values{"text": {*text}})
		if err != nil {
			return err
		}
		if *f.json {
			return printJSON(env.Out, all)
		}
		var rows [][]string
		for _, g := range all {
			rows = append(rows, []string{g.Name, members(g), fmt.Sprint(len(g.Sets)), fmt.Sprint(len(g.Mounts)), fmt.Sprint(len(g.Grants)), dash(g.Note)})
		}
		table(env.Out, "GROUP|ACCOUNTS|SETTINGS#5|MOUNTS#3|GRANTS#4|NOTE#6", rows)
		return nil
	}
}

// members names the accounts in a group: all, or the first of many.
func members(g api.Group) string {
	text := some(g.Accounts, g.Members)
	if g.Members > len(g.Accounts) {
		text += fmt.Sprintf(" (account list -group %s)", g.Name)
	}
	return text
}

// some names the first of so many.
func some(names []string, all int) string {
	text := dash(strings.Join(names, ", "))
	if more := all - len(names); more > 0 {
		text += fmt.Sprintf(" and %d more", more)
	}
	return text
}

func groupShow(_ *flag.FlagSet, f *common) run {
	return func(ctx context.Context, env command.Env, c *client, args []string) error {
		var g api.Group
		if err := c.call(ctx, http.MethodGet, "/groups/"+name(args[0]), nil, &g); err != nil {
			return err
		}
		if *f.json {
			return printJSON(env.Out, g)
		}
		table(env.Out, "GROUP|"+g.Name, [][]string{{"note", dash(g.Note)}, {"accounts", members(g)}, {"created", at(&g.Created)}, {"changed", at(&g.Changed)}})
		now := api.InForce{Settings: g.Sets}
		for _, m := range g.Mounts {
			now.Mounts = append(now.Mounts, api.Mount{Mount: m, From: "group " + g.Name})
		}
		for _, one := range g.Grants {
			now.Grants = append(now.Grants, api.Grant{Grant: one, From: "group " + g.Name, Conditions: one.Conditions()})
		}
		showInForce(env, now, false)
		return nil
	}
}

func groupDelete(_ *flag.FlagSet, f *common) run {
	return deletion(f, "/groups/", "group %s deleted\n")
}

// deletion is a command that deletes what its argument names.
func deletion(f *common, path, say string) run {
	return func(ctx context.Context, env command.Env, c *client, args []string) error {
		if err := c.call(ctx, http.MethodDelete, path+name(args[0]), nil, nil); err != nil {
			return err
		}
		if *f.json {
			return printJSON(env.Out, map[string]string{"deleted": args[0]})
		}
		_, err := fmt.Fprintf(env.Out, say, args[0])
		return err
	}
}
