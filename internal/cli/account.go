package cli

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strings"

	"urbankeep/internal/command"
	"urbankeep/internal/keep"
	"urbankeep/internal/web/api"
)

// Commands are all client commands.
func Commands() []*command.Command {
	return slices.Concat(accountCommands(), keyCommands(), hostKeyCommands(), listenerCommands(), certificateCommands(), watchCommands(), auditCommands(), operatorCommands())
}

// run is the body of a client command: it has its client already.
type run func(ctx context.Context, env command.Env, c *client, args []string) error

// clientCommand makes a command of its parts.
func clientCommand(name, args, short, long string, declare func(flags *flag.FlagSet, f *common) run) *command.Command {
	return &command.Command{Name: name, Args: args, Short: short, Long: long,
		Flags: func(flags *flag.FlagSet) func(context.Context, command.Env, []string) error {
			f := commonFlags(flags)
			do := declare(flags, f)
			return func(ctx context.Context, env command.Env, args []string) error {
				c, err := f.client()
				if err != nil {
					return err
				}
				return do(ctx, env, c, args)
			}
		}}
}

const treeHelp = `A home is always explicit: STORE:FOLDER, as in files:{account}; {account} stands for the name.
Rights are a bundle (full, add-only, read-only, drop-only, none) or a list such as list,download.
The grant on the deepest folder that covers a path decides alone.`

func accountCommands() []*command.Command {
	return []*command.Command{
		clientCommand("account add", "NAME", "Add an account", treeHelp, accountAdd),
		clientCommand("account list", "", "List the accounts", "", accountList),
		clientCommand("account show", "NAME", "Show an account, its tree and its keys", "", accountShow),
		clientCommand("account set", "NAME", "Change an account", treeHelp, accountSet),
		clientCommand("account suspend", "NAME", "Keep an account from signing in and end its sessions", "", func(_ *flag.FlagSet, f *common) run {
			return accountState(f, "suspend", "suspended; its sessions were ended")
		}),
		clientCommand("account resume", "NAME", "Let a suspended account sign in again", "", func(_ *flag.FlagSet, f *common) run {
			return accountState(f, "resume", "may sign in again")
		}),
		clientCommand("explain", "ACCOUNT RIGHT PATH", "Say whether an account may do something, and why",
			"RIGHT is one of list, download, upload, overwrite, rename, delete, mkdir, rmdir, touch, link. Exit status 1 when it may not.", explain),
		clientCommand("account delete", "NAME", "Delete an account and end its sessions; its files stay", "", accountDelete),
	}
}

// treeFlags are the flags about an account's tree, as given.
type treeFlags struct {
	home, rights   *string
	mounts, grants command.List
}

func declareTree(flags *flag.FlagSet, rights string) *treeFlags {
	t := &treeFlags{home: flags.String("home", "", "`STORE:FOLDER` that becomes the root of its tree"),
		rights: flags.String("rights", rights, "`rights` on the root and what no other grant covers")}
	flags.Var(&t.mounts, "mount", "`AT=STORE:FOLDER` to mount in its tree, \",ro\" behind it for read-only; may be given several times")
	flags.Var(&t.grants, "grant", "`PATH=RIGHTS` to give on a folder; may be given several times")
	return t
}

// apply puts what was given into mounts and grants, replacing what is there.
func (t *treeFlags) apply(mounts []keep.Mount, grants []keep.Grant) ([]keep.Mount, []keep.Grant, error) {
	if *t.home != "" {
		m, err := keep.ParsePlace("-home", *t.home)
		if err != nil {
			return nil, nil, command.Usagef("%s", err)
		}
		mounts = putMount(mounts, m)
	}
	for _, text := range t.mounts {
		m, err := keep.ParseMount(text)
		if err != nil {
			return nil, nil, command.Usagef("-%s", err)
		}
		mounts = putMount(mounts, m)
	}
	lines := t.grants
	if *t.rights != "" {
		lines = append(command.List{"/=" + *t.rights}, lines...)
	}
	for _, text := range lines {
		at, names, ok := strings.Cut(text, "=")
		rights, err := keep.ParseRights(names)
		if !ok || err != nil {
			return nil, nil, command.Usagef("-grant %q is not PATH=RIGHTS: %v", text, err)
		}
		grants = slices.DeleteFunc(grants, func(g keep.Grant) bool { return g.Path == at })
		grants = append(grants, keep.Grant{Path: at, Rights: rights})
	}
	return mounts, grants, nil
}

func putMount(mounts []keep.Mount, m keep.Mount) []keep.Mount {
	return append(slices.DeleteFunc(mounts, func(o keep.Mount) bool { return o.At == m.At }), m)
}

// passwordFlags are how a password is to be set.
type passwordFlags struct{ ask, generate *bool }

func declarePassword(flags *flag.FlagSet) passwordFlags {
	return passwordFlags{flags.Bool("password", false, "set a password: asked for on a terminal, else the first line of standard input"),
		flags.Bool("generate", false, "set a generated password and print it, once")}
}

func (p passwordFlags) read(env command.Env, account string) (string, error) {
	if *p.ask && *p.generate {
		return "", command.Usagef("use -password or -generate, not both")
	}
	if !*p.ask {
		return "", nil
	}
	return askPassword(env, account)
}

const signInByHelp = "`what` it must show: either (a password or a key), password, key, or both (a key, then the password; SFTP only)"

func accountAdd(flags *flag.FlagSet, f *common) run {
	tree, password := declareTree(flags, "full"), declarePassword(flags)
	note := flags.String("note", "", "a `note` for operators")
	plain := flags.Bool("plain", false, "may sign in over FTP without TLS: its password goes in clear")
	proofs := flags.String("sign-in-by", string(keep.DefaultProofs), signInByHelp)
	life := declareLife(flags)
	keyFile := flags.String("key", "", "`file` with SSH public keys to give it")
	return func(ctx context.Context, env command.Env, c *client, args []string) error {
		ask := api.AccountNew{Name: args[0], Note: *note, SignInBy: keep.Proofs(*proofs), AllowPlain: *plain, MaxSessions: *life.sessions, MaxUpload: life.upload, Generate: *password.generate}
		var err error
		if ask.ValidFrom, ask.ValidUntil, err = life.times(); err != nil {
			return err
		}
		if ask.Mounts, ask.Grants, err = tree.apply([]keep.Mount{}, []keep.Grant{}); err != nil {
			return err
		}
		key := ""
		if *keyFile != "" {
			if key, err = readKeys(env, *keyFile); err != nil {
				return err
			}
		}
		if ask.Password, err = password.read(env, args[0]); err != nil {
			return err
		}
		var made api.AccountMade
		if err := c.call(ctx, http.MethodPost, "/accounts", ask, &made); err != nil {
			return err
		}
		if key != "" {
			var added api.Page[api.Key]
			if err := c.call(ctx, http.MethodPost, "/accounts/"+name(args[0])+"/keys", api.KeyNew{Key: key}, &added); err != nil {
				return errors.Join(showMade(env, f, made, "added"), fmt.Errorf("the account was added, but its key was not: %w", err))
			}
			if err := c.call(ctx, http.MethodGet, "/accounts/"+name(args[0]), nil, &made.Account); err != nil {
				return errors.Join(showMade(env, f, made, "added"), err)
			}
		}
		return showMade(env, f, made, "added")
	}
}

func showMade(env command.Env, f *common, made api.AccountMade, what string) error {
	if *f.json {
		return printJSON(env.Out, made)
	}
	fmt.Fprintf(env.Out, "account %s %s\n", made.Account.Name, what)
	if made.Password != "" {
		fmt.Fprintf(env.Out, "password: %s\nIt is shown this once. Hand it over by another way than the account's name.\n", made.Password)
	}
	if !made.Account.CanSignIn {
		fmt.Fprintf(env.Out, "It can't sign in yet: it lacks %s.\n", lacks(made.Account))
	}
	return nil
}

func accountSet(flags *flag.FlagSet, f *common) run {
	tree, password := declareTree(flags, ""), declarePassword(flags)
	note := flags.String("note", "", "a `note` for operators")
	plain := flags.Bool("plain", false, "may sign in over FTP without TLS; -plain=false takes it back")
	proofs := flags.String("sign-in-by", "", signInByHelp)
	life := declareLife(flags)
	var unmount, ungrant command.List
	flags.Var(&unmount, "unmount", "take away the mount at this `path`; may be given several times")
	flags.Var(&ungrant, "ungrant", "take away the grant on this `path`; may be given several times")
	return func(ctx context.Context, env command.Env, c *client, args []string) error {
		var now api.Account
		if err := c.call(ctx, http.MethodGet, "/accounts/"+name(args[0]), nil, &now); err != nil {
			return err
		}
		mounts, grants, err := tree.apply(now.Mounts, now.Grants)
		if err != nil {
			return err
		}
		for _, path := range unmount {
			mounts = slices.DeleteFunc(mounts, func(m keep.Mount) bool { return m.At == path })
		}
		for _, path := range ungrant {
			grants = slices.DeleteFunc(grants, func(g keep.Grant) bool { return g.Path == path })
		}
		ask := api.AccountChange{Mounts: &mounts, Grants: &grants, Generate: *password.generate}
		flags.Visit(func(given *flag.Flag) {
			switch given.Name {
			case "note":
				ask.Note = note
			case "plain":
				ask.AllowPlain = plain
			case "max-sessions":
				ask.MaxSessions = life.sessions
			case "max-upload":
				ask.MaxUpload = &life.upload
			case "sign-in-by":
				ask.SignInBy = (*keep.Proofs)(proofs)
			}
		})
		if ask.ValidFrom, ask.ValidUntil, err = life.times(); err != nil {
			return err
		}
		text, err := password.read(env, args[0])
		if err != nil {
			return err
		}
		if *password.ask {
			ask.Password = &text
		}
		var made api.AccountMade
		if err := c.call(ctx, http.MethodPatch, "/accounts/"+name(args[0]), ask, &made); err != nil {
			return err
		}
		return showMade(env, f, made, "changed")
	}
}

// everyPage calls take for each page of a list until there are no more, or take
// has had enough.
func everyPage[T any](ctx context.Context, c *client, path string, query url.Values, cursor string, take func([]T) bool) error {
	for {
		var page api.Page[T]
		if err := c.call(ctx, http.MethodGet, path+"?"+query.Encode(), nil, &page); err != nil {
			return err
		}
		if !take(page.Items) || page.Next == "" {
			return nil
		}
		query.Set(cursor, page.Next)
	}
}

func accountList(_ *flag.FlagSet, f *common) run {
	return func(ctx context.Context, env command.Env, c *client, _ []string) error {
		all := []api.Account{}
		err := everyPage(ctx, c, "/accounts", url.Values{}, "after", func(items []api.Account) bool {
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
		for _, a := range all {
			rows = append(rows, []string{a.Name, string(a.State), home(a), rights(a), means(a), fmt.Sprint(a.Sessions), at(a.LastSignIn), a.Note})
		}
		table(env.Out, "ACCOUNT|STATE|HOME|RIGHTS|SIGNS IN BY|LIVE|LAST SIGN-IN|NOTE", rows)
		return nil
	}
}

func home(a api.Account) string {
	for _, m := range a.Mounts {
		if m.At == "/" {
			return m.Store + ":" + m.Folder
		}
	}
	return "-"
}

func rights(a api.Account) string {
	shown := "none"
	for _, g := range a.Grants {
		if g.Path == "/" {
			shown = g.Rights.String()
		}
	}
	if len(a.Grants) > 1 {
		shown += fmt.Sprintf(" +%d", len(a.Grants)-1)
	}
	return shown
}

// means says what an account signs in with.
func means(a api.Account) string {
	if a.AllowPlain {
		return a.Means + ", plain FTP allowed"
	}
	return a.Means
}

// lacks says what to give an account that can't sign in.
func lacks(a api.Account) string {
	password := fmt.Sprintf("a password (account set %s -generate)", a.Name)
	key := fmt.Sprintf("a key (key add %s FILE)", a.Name)
	switch {
	case a.SignInBy == keep.ByPassword, a.SignInBy == keep.ByBoth && a.Keys > 0:
		return password
	case a.SignInBy == keep.ByKey, a.SignInBy == keep.ByBoth && a.HasPassword:
		return key
	case a.SignInBy == keep.ByBoth:
		return password + " and " + key
	}
	return password + " or " + key
}

func accountShow(_ *flag.FlagSet, f *common) run {
	return func(ctx context.Context, env command.Env, c *client, args []string) error {
		var a api.Account
		if err := c.call(ctx, http.MethodGet, "/accounts/"+name(args[0]), nil, &a); err != nil {
			return err
		}
		if *f.json {
			return printJSON(env.Out, a)
		}
		table(env.Out, "ACCOUNT|"+a.Name, [][]string{
			{"state", string(a.State)}, {"note", dash(a.Note)}, {"signs in by", means(a)}, {"valid", validity(a)}, {"live sessions", liveSessions(a)}, {"largest upload", largest(a)},
			{"last sign-in", at(a.LastSignIn)}, {"created", at(&a.Created)}, {"changed", at(&a.Changed)}})
		var rows [][]string
		for _, m := range a.Mounts {
			rows = append(rows, []string{m.At, m.Store + ":" + m.Folder, map[bool]string{true: "read-only", false: "-"}[m.ReadOnly]})
		}
		fmt.Fprintln(env.Out)
		table(env.Out, "MOUNT|FROM|MODE", rows)
		rows = nil
		for _, g := range a.Grants {
			rows = append(rows, []string{g.Path, g.Rights.String()})
		}
		fmt.Fprintln(env.Out)
		table(env.Out, "GRANT ON|RIGHTS", rows)
		return nil
	}
}

func accountState(f *common, verb, said string) run {
	return func(ctx context.Context, env command.Env, c *client, args []string) error {
		var a api.Account
		if err := c.call(ctx, http.MethodPost, "/accounts/"+name(args[0])+"/"+verb, nil, &a); err != nil {
			return err
		}
		if *f.json {
			return printJSON(env.Out, a)
		}
		fmt.Fprintf(env.Out, "account %s %s\n", a.Name, said)
		return nil
	}
}

func accountDelete(_ *flag.FlagSet, f *common) run {
	return func(ctx context.Context, env command.Env, c *client, args []string) error {
		if err := c.call(ctx, http.MethodDelete, "/accounts/"+name(args[0]), nil, nil); err != nil {
			return err
		}
		if *f.json {
			return printJSON(env.Out, map[string]string{"deleted": args[0]})
		}
		fmt.Fprintf(env.Out, "account %s deleted; its files stay where they are\n", args[0])
		return nil
	}
}
