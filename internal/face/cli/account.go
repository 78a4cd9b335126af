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
	"time"

	"urbankeep/internal/api"
	"urbankeep/internal/face/command"
	"urbankeep/internal/keep"
)

// Commands are all client commands.
func Commands() []*command.Command {
	return slices.Concat(accountCommands(), groupCommands(), storeCommands(), gateCommands(), limitCommands(), keyCommands(), shelfCommands(), hostKeyCommands(), listenerCommands(), certificateCommands(), watchCommands(), auditCommands(), collectorCommands(), reportCommands(), operatorCommands(), historyCommands(), checkupCommands(), handoverCommands(), passCommands(), lockCommands(), sourceCommands(), noticeCommands(), receiverCommands(), backupCommands(), setupCommands())
}

// run is the body of a client command: it has its client already.
type run func(ctx context.Context, env command.Env, c *client, args []string) error

// commonSection are the flags of every command, which come last; accountSections those of accounts and groups.
var (
	commonSection   = command.Section{Title: "As for every command", Flags: "data,server,token-file,json,zone"}
	accountSections = []command.Section{
		{Title: "Who it is", Flags: "note,mail,group,ungroup,source"},
		{Title: "How it signs in", Flags: "password,generate,must-change,key,sign-in-by,second-factor,factor-by,factor-on,factor-remember,no-codes"},
		{Title: "What it sees and may do", Flags: "home,mount,unmount,starters,rights,grant,ungrant,umask"},
		{Title: "Limits", Flags: "quota-bytes,quota-files,max-upload,max-sessions,speed-up,speed-down,session-speed-up,session-speed-down"},
		{Title: "From where and when", Flags: "protocols,encryption,allow,deny,valid-from,valid-until,idle-time"},
		{Title: "On the portal", Flags: "passes,pass-time,bin-time"},
	}
)

// clientCommand makes a command of its parts.
func clientCommand(name, args, short, long string, declare func(flags *flag.FlagSet, f *common) run) *command.Command {
	sections := []command.Section{commonSection}
	if name == "account add" || name == "account set" || name == "group add" || name == "group set" {
		sections = append(slices.Clone(accountSections), commonSection)
	}
	return &command.Command{Name: name, Args: args, Short: short, Long: long, Sections: sections,
		Flags: func(flags *flag.FlagSet) func(context.Context, command.Env, []string) error {
			f := commonFlags(flags)
			do := declare(flags, f)
			return func(ctx context.Context, env command.Env, args []string) error {
				if err := showIn(*f.zone); err != nil {
					return err
				}
				c, err := f.client()
				if err != nil {
					return err
				}
				if err := do(ctx, env, c, args); err != nil {
					return byFlag(flags, err)
				}
				if c.unchanged && !c.told {
					fmt.Fprintln(env.Err, "nothing changed: it is so already")
				}
				return nil
			}
		}}
}

// byFlag says what is wrong with a field of the API's by the name of the flag that gives it.
func byFlag(flags *flag.FlagSet, err error) error {
	var p problem
	if !errors.As(err, &p) {
		return err
	}
	if (p.Reason == string(keep.ShutsYouOut) || p.Reason == string(keep.InClear)) && flags.Lookup("meant") != nil {
		return fmt.Errorf("%w (-meant)", err)
	}
	if p.Field == "" {
		return err
	}
	hyphens := keep.Setting{Name: p.Field}.Flag()
	for _, name := range []string{hyphens, strings.TrimSuffix(hyphens, "s"), strings.TrimSuffix(hyphens, "-low")} {
		if flags.Lookup(name) != nil {
			return fmt.Errorf("-%s: %s", name, p.Detail)
		}
	}
	return err
}

const treeHelp = `A home is always explicit: STORE:FOLDER, as in files:{account}; {account} stands for the name, {group} for the group's.
Rights are a bundle (full, add-only, read-only, drop-only, none) or a list such as list,download.
The grants on the deepest folder that covers a path decide, no other; those that count for the name and the time add up:
  -grant '/in=add-only;never=*.exe'  -grant '/out=read-only;days=mon-fri;hours=08:00-18:00;zone=Europe/Oslo'
What an account does not set, its groups set: the first that does. Mounts add up. On a folder on which the account has grants of its own
only those count; elsewhere those of its groups add up.`

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
		clientCommand("account clone", "NAME NEW-NAME", "Make a new account like another, without its password and keys", "", accountClone),
		clientCommand("account export", "", "Print all accounts as CSV, without any secret", "", accountExport),
		clientCommand("account import", "[FILE]", "Add and change accounts by a CSV file, all or none; - is standard input",
			"The first line names the columns, as account export prints them; commas, semicolons or tabs stand between cells. A column that is missing leaves things as they are.\nA password cell may say generate. No account is deleted.", accountImport),
		clientCommand("rehearse", "ACCOUNT", "Sign in as an account and try what it may do",
			"It works on scratch files, signs in with a credential of its own that works once, and is marked in the audit trail.\nExit status 1 when anything went otherwise than the rules say.", rehearseAccount),
		clientCommand("account delete", "NAME", "Delete an account and end its sessions; its files stay", "", accountDelete),
	}
}

// treeFlags are the flags about a tree, as given.
type treeFlags struct {
	home, rights                     *string
	mounts, grants, unmount, ungrant command.List
}

func declareTree(flags *flag.FlagSet) *treeFlags {
	t := &treeFlags{home: flags.String("home", "", "`STORE:FOLDER` that becomes the root of the tree"),
		rights: flags.String("rights", "", "`rights` on the root and what no other grant covers; for a new account with a home of its own, no group and no grant on the root, full")}
	flags.Var(&t.mounts, "mount", "`AT=STORE:FOLDER` to mount in the tree, with options behind it: \",ro,umask=007,bytes=2G,files=1000\"; may be given several times")
	flags.Var(&t.grants, "grant", "`PATH=RIGHTS` to give on a folder, in place of what is granted there; with conditions behind it: \";only=*.tif;never=*.exe;from=DAY;until=DAY;days=mon-fri;hours=08:00-18:00;zone=AREA/CITY\"; may be given several times")
	return t
}

// declareChange declares what takes parts of a tree away.
func (t *treeFlags) declareChange(flags *flag.FlagSet) {
	flags.Var(&t.unmount, "unmount", "take away the mount at this `path`; may be given several times")
	flags.Var(&t.ungrant, "ungrant", "take away the grants on this `path`; may be given several times")
}

// grantsRoot reports whether a grant on the root is given; what is wrong with one is said later.
func (t *treeFlags) grantsRoot() bool {
	return slices.ContainsFunc(t.grants, func(text string) bool {
		g, err := keep.ParseGrant(text)
		return err == nil && g.Path == "/"
	})
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
		if _, err := keep.ParseRights(*t.rights); err != nil {
			return nil, nil, command.Usagef("-rights: %s", err)
		}
		lines = append(command.List{"/=" + *t.rights}, lines...)
	}
	replaced := map[string]bool{}
	for _, text := range lines {
		g, err := keep.ParseGrant(text)
		if err != nil {
			return nil, nil, command.Usagef("-%s", err)
		}
		if !replaced[g.Path] {
			grants = slices.DeleteFunc(grants, func(old keep.Grant) bool { return old.Path == g.Path })
			replaced[g.Path] = true
		}
		grants = append(grants, g)
	}
	for _, path := range t.unmount {
		mounts = slices.DeleteFunc(mounts, func(m keep.Mount) bool { return m.At == path })
	}
	for _, path := range t.ungrant {
		grants = slices.DeleteFunc(grants, func(g keep.Grant) bool { return g.Path == path })
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

func accountAdd(flags *flag.FlagSet, f *common) run {
	tree, password, settings, card := declareTree(flags), declarePassword(flags), declareSettings(flags), declareCard(flags)
	keyFile := flags.String("key", "", "`file` with SSH public keys to give it")
	return func(ctx context.Context, env command.Env, c *client, args []string) error {
		ask := api.AccountNew{Name: args[0], Note: *card.note, Mail: *card.mail, Source: *card.source, MustChange: *card.mustChange, Groups: card.groups, Settings: settings, Generate: *password.generate}
		if *tree.rights == "" && *tree.home != "" && len(card.groups) == 0 && !tree.grantsRoot() {
			*tree.rights = "full"
		}
		var err error
		if ask.Mounts, ask.Grants, err = tree.apply([]keep.Mount{}, []keep.Grant{}); err != nil {
			return err
		}
		if *keyFile != "" {
			if ask.Key, err = readKeys(env, *keyFile); err != nil {
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
	if made.Strength != nil {
		fmt.Fprintf(env.Out, "strength: %s\n", made.Strength.Say)
	}
	if until := made.Account.Settings.ValidUntil; until != nil && !until.IsZero() && until.Before(time.Now()) {
		fmt.Fprintf(env.Out, "Its time ended on %s: it can't sign in.\n", at(&until.Time))
	}
	if made.Account.State == keep.StateActive && len(made.Account.InForce.Grants) == 0 {
		fmt.Fprintf(env.Out, "It may do nothing yet: it has no rights, neither of its own (account set %s -rights full) nor of a group.\n", made.Account.Name)
	}
	if !made.Account.CanSignIn {
		fmt.Fprintf(env.Out, "It can't sign in yet: it lacks %s.\n", lacks(made.Account))
	}
	return nil
}

func accountSet(flags *flag.FlagSet, f *common) run {
	tree, password, settings, card := declareTree(flags), declarePassword(flags), declareSettings(flags), declareCard(flags)
	tree.declareChange(flags)
	var ungroup command.List
	flags.Var(&ungroup, "ungroup", "take it out of this `group`; may be given several times")
	noCodes := flags.Bool("no-codes", false, "the portal asks for no one-time codes until its holder sets them up again, who has lost what makes them")
	return func(ctx context.Context, env command.Env, c *client, args []string) error {
		var now api.Account
		if err := c.call(ctx, http.MethodGet, "/accounts/"+name(args[0]), nil, &now); err != nil {
			return err
		}
		mounts, grants, err := tree.apply(now.Mounts, now.Grants)
		if err != nil {
			return err
		}
		groups := slices.DeleteFunc(now.Groups, func(g string) bool { return slices.Contains(ungroup, g) || slices.Contains(card.groups, g) })
		groups = append(groups, card.groups...)
		ask := api.AccountChange{Mounts: &mounts, Grants: &grants, Groups: &groups, Settings: settings, Generate: *password.generate}
		flags.Visit(func(given *flag.Flag) {
			switch given.Name {
			case "note":
				ask.Note = card.note
			case "mail":
				ask.Mail = card.mail
			case "must-change":
				ask.MustChange = card.mustChange
			case "source":
				ask.Source = card.source
			}
		})
		text, err := password.read(env, args[0])
		if err != nil {
			return err
		}
		if *password.ask {
			ask.Password = &text
		}
		if *noCodes {
			if err := c.call(ctx, http.MethodDelete, "/accounts/"+name(args[0])+"/codes", nil, nil); err != nil {
				return err
			}
		}
		var made api.AccountMade
		if err := c.call(ctx, http.MethodPatch, "/accounts/"+name(args[0]), ask, &made); err != nil {
			return err
		}
		if *noCodes {
			c.unchanged = false // something was, whatever the rest says
			if !*f.json {
				fmt.Fprintln(env.Err, "its one-time codes are gone: the portal asks for none until its holder sets them up again")
			}
		}
		return showMade(env, f, made, c.now("changed"))
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

// textFlag narrows a list.
func textFlag(flags *flag.FlagSet, of string) *string {
	return flags.String("text", "", "only those with this `text` in their "+of)
}

// everyOne gives all items of a list that pages by what comes after a cursor.
func everyOne[T any](ctx context.Context, c *client, path string, query url.Values) ([]T, error) {
	all := []T{}
	query.Set("limit", "1000")
	err := everyPage(ctx, c, path, query, "after", func(items []T) bool {
		all = append(all, items...)
		return true
	})
	return all, err
}

func accountList(flags *flag.FlagSet, f *common) run {
	text, group := textFlag(flags, "name, note, mail address or groups"), flags.String("group", "", "only those in this `group`")
	return func(ctx context.Context, env command.Env, c *client, _ []string) error {
		all, err := everyOne[api.Account](ctx, c, "/accounts", url.Values{"text": {*text}, "group": {*group}})
		if err != nil {
			return err
		}
		if *f.json {
			return printJSON(env.Out, all)
		}
		var rows [][]string
		for _, a := range all {
			rows = append(rows, []string{a.Name, string(a.State), home(a), rights(a), means(a), dash(strings.Join(a.Groups, ", ")), fmt.Sprint(a.Sessions), at(a.LastSignIn), a.Note})
		}
		table(env.Out, "ACCOUNT|STATE|HOME|RIGHTS#4|SIGNS IN BY#3|GROUPS#6|LIVE#5|LAST SIGN-IN#7|NOTE#8", rows)
		return nil
	}
}

func home(a api.Account) string {
	for _, m := range a.InForce.Mounts {
		if m.At == "/" {
			return m.Store + ":" + m.Folder
		}
	}
	return "-"
}

func rights(a api.Account) string {
	shown, more := []string{}, 0
	for _, g := range a.InForce.Grants {
		if g.Path != "/" {
			more++
		} else if text := g.Rights.String(); !slices.Contains(shown, text) {
			shown = append(shown, text)
		}
	}
	text := "none"
	if len(shown) > 0 {
		text = strings.Join(shown, " and ")
	}
	if more > 0 {
		text += fmt.Sprintf(" +%d", more)
	}
	return text
}

// means says what an account signs in with.
func means(a api.Account) string {
	if a.Plain {
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

func accountShow(flags *flag.FlagSet, f *common) run {
	all := flags.Bool("all", false, "show every setting, also those that nobody set")
	return func(ctx context.Context, env command.Env, c *client, args []string) error {
		var a api.Account
		if err := c.call(ctx, http.MethodGet, "/accounts/"+name(args[0]), nil, &a); err != nil {
			return err
		}
		if *f.json {
			return printJSON(env.Out, a)
		}
		signsIn := means(a)
		if a.MustChange {
			signsIn += ", must change its password"
		}
		table(env.Out, "ACCOUNT|"+a.Name, [][]string{
			{"state", string(a.State)}, {"comes from", a.Source}, {"note", dash(a.Note)}, {"mail", dash(a.Mail)}, {"groups", dash(strings.Join(a.Groups, ", "))}, {"signs in by", signsIn},
			{"live sessions", liveSessions(a)}, {"last sign-in", at(a.LastSignIn)}, {"created", at(&a.Created)}, {"changed", at(&a.Changed)}})
		showInForce(env, a.InForce, *all)
		return nil
	}
}

func liveSessions(a api.Account) string {
	for _, s := range a.InForce.Settings {
		if s.Name == "maxSessions" && s.From != "" {
			return fmt.Sprintf("%d of at most %s", a.Sessions, s.Say)
		}
	}
	return fmt.Sprint(a.Sessions)
}

// showInForce prints settings, mounts and grants, each with where it comes from.
func showInForce(env command.Env, now api.InForce, all bool) {
	var rows [][]string
	for _, s := range now.Settings {
		if s.From != "" || all {
			rows = append(rows, []string{s.Label, s.Say, dash(s.From)})
		}
	}
	if len(rows) > 0 {
		fmt.Fprintln(env.Out)
		table(env.Out, "SETTING|VALUE|SET BY", rows)
	}
	rows = nil
	for _, m := range now.Mounts {
		var mode []string
		if m.ReadOnly {
			mode = append(mode, "read-only")
		}
		if len(m.Protocols) > 0 {
			mode = append(mode, "over "+m.Protocols.String())
		}
		rows = append(rows, []string{m.At, m.Store + ":" + m.Folder, dash(strings.Join(mode, ", ")), holds(m), m.From})
	}
	fmt.Fprintln(env.Out)
	table(env.Out, "MOUNT|LEADS TO|MODE|HOLDS|SET BY", rows)
	rows = nil
	for _, g := range now.Grants {
		rows = append(rows, []string{g.Path, g.Rights.String(), dash(g.Conditions), g.From})
	}
	fmt.Fprintln(env.Out)
	table(env.Out, "GRANT ON|RIGHTS|COUNTS|SET BY", rows)
}

// holds says what a mount holds of its quota.
func holds(m api.Mount) string {
	if m.Used == nil || m.Quota == nil {
		return "-"
	}
	return fill(*m.Used, *m.Quota)
}

func fill(used, quota keep.Quota) string {
	var said []string
	if quota.Bytes > 0 {
		said = append(said, fmt.Sprintf("%s of %s (%d%%)", size(int64(used.Bytes)), size(int64(quota.Bytes)), 100*used.Bytes/quota.Bytes))
	} else {
		said = append(said, size(int64(used.Bytes)))
	}
	if quota.Files > 0 {
		said = append(said, fmt.Sprintf("%d of %d files", used.Files, quota.Files))
	}
	return strings.Join(said, ", ")
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
		if c.now("") != "" {
			said = "is " + string(a.State) + " already: nothing changed"
		}
		fmt.Fprintf(env.Out, "account %s %s\n", a.Name, said)
		return nil
	}
}

func accountDelete(_ *flag.FlagSet, f *common) run {
	return deletion(f, "/accounts/", "account %s deleted; its files stay where they are\n")
}
