package cli

import (
	"context"
	"flag"
	"fmt"
	"net/http"
	"net/url"
	"path/filepath"
	"strings"

	"urbankeep/internal/api"
	"urbankeep/internal/face/command"
	"urbankeep/internal/keep"
)

func storeCommands() []*command.Command {
	return []*command.Command{
		clientCommand("store add", "NAME FOLDER", "Make a folder of the machine a store", "", storeAdd),
		clientCommand("store list", "", "List the stores and who uses them", "", storeList),
		clientCommand("store set", "NAME", "Say whether files outlive a power cut when they are acknowledged",
			"-durability power: an upload that is acknowledged is on the medium. -durability process: it outlives the end of the service. It holds for sessions that begin.", storeSet),
		clientCommand("store mark", "NAME", "Take the folder that is there now as the store",
			"A store's folder holds a file with the store's number, so that nothing is written to a wrong disk. Mark it anew when that file was lost,\nor when the files were copied to another disk.", storeMark),
		clientCommand("store remove", "NAME", "Forget a store that no mount uses; its files stay", "", func(_ *flag.FlagSet, f *common) run {
			return deletion(f, "/stores/", "store %s removed; its files stay where they are\n")
		}),
		clientCommand("store grounds", "", "Show or say which folders of the machine stores may use at all", "", storeGrounds),
		clientCommand("quota list", "", "List the folders with a quota, the fullest first", "", quotaList),
		clientCommand("quota history", "STORE:FOLDER", "Show what a folder with a quota held, hour by hour", "", quotaHistory),
		clientCommand("quota recount", "STORE:FOLDER", "Count a folder with a quota anew, after changes behind the service's back",
			"Nobody changes the folder while it is counted. It is done once a day by itself.", quotaRecount),
	}
}

func storeAdd(_ *flag.FlagSet, f *common) run {
	return func(ctx context.Context, env command.Env, c *client, args []string) error {
		ask := api.StoreNew{Name: args[0], Folder: args[1]}
		if c.token == "" { // on this machine a folder may be said from where one stands
			if full, err := filepath.Abs(ask.Folder); err == nil {
				ask.Folder = full
			}
		}
		var s api.Store
		if err := c.call(ctx, http.MethodPost, "/stores", ask, &s); err != nil {
			return err
		}
		if *f.json {
			return printJSON(env.Out, s)
		}
		fmt.Fprintf(env.Out, "store %s added: %s\n", s.Name, s.Folder)
		return nil
	}
}

func storeList(_ *flag.FlagSet, f *common) run {
	return func(ctx context.Context, env command.Env, c *client, _ []string) error {
		var page api.Page[api.Store]
		if err := c.call(ctx, http.MethodGet, "/stores", nil, &page); err != nil {
			return err
		}
		if *f.json {
			return printJSON(env.Out, page.Items)
		}
		var rows [][]string
		for _, s := range page.Items {
			state := "there"
			if s.Away != "" {
				state = "AWAY"
				fmt.Fprintf(env.Err, "%s: mount it; if the folder that is there is the right one, store mark %s\n", s.Away, s.Name)
			}
			rows = append(rows, []string{s.Name, s.Folder, state, string(s.Durability), dash(strings.Join(s.MountedBy, ", "))})
		}
		table(env.Out, "STORE|FOLDER|STATE|OUTLIVES#3|MOUNTED BY", rows)
		return nil
	}
}

func storeSet(flags *flag.FlagSet, f *common) run {
	durability := flags.String("durability", "", "power or process: what the `end` of is outlived by what is acknowledged")
	return func(ctx context.Context, env command.Env, c *client, args []string) error {
		if *durability == "" {
			return command.Usagef("say what is to change: -durability power or -durability process")
		}
		d := keep.Durability(*durability)
		return storeChanged(ctx, env, c, f, http.MethodPatch, "/stores/"+url.PathEscape(args[0]), api.StoreChange{Durability: &d})
	}
}

func storeMark(_ *flag.FlagSet, f *common) run {
	return func(ctx context.Context, env command.Env, c *client, args []string) error {
		return storeChanged(ctx, env, c, f, http.MethodPost, "/stores/"+url.PathEscape(args[0])+"/mark", nil)
	}
}

func storeChanged(ctx context.Context, env command.Env, c *client, f *common, method, path string, ask any) error {
	var s api.Store
	if err := c.call(ctx, method, path, ask, &s); err != nil {
		return err
	}
	if *f.json {
		return printJSON(env.Out, s)
	}
	_, err := fmt.Fprintf(env.Out, "store %s in %s: %s\n", s.Name, s.Folder, promises[s.Durability])
	return err
}

func storeGrounds(flags *flag.FlagSet, f *common) run {
	var set command.List
	flags.Var(&set, "set", "stores may lie in this `folder` only; may be given several times")
	anywhere := flags.Bool("anywhere", false, "stores may lie anywhere again")
	return func(ctx context.Context, env command.Env, c *client, _ []string) error {
		var now api.Grounds
		var err error
		switch {
		case *anywhere && len(set) > 0:
			return command.Usagef("use -set or -anywhere, not both")
		case *anywhere || len(set) > 0:
			err = c.call(ctx, http.MethodPut, "/store-grounds", api.Grounds{Grounds: append([]string{}, set...)}, &now)
		default:
			err = c.call(ctx, http.MethodGet, "/store-grounds", nil, &now)
		}
		if err != nil {
			return err
		}
		if *f.json {
			return printJSON(env.Out, now)
		}
		if len(now.Grounds) == 0 {
			fmt.Fprintln(env.Out, "stores may lie anywhere on the machine")
		}
		for _, folder := range now.Grounds {
			fmt.Fprintln(env.Out, "stores may lie in", folder)
		}
		return nil
	}
}

func quotaList(_ *flag.FlagSet, f *common) run {
	return func(ctx context.Context, env command.Env, c *client, _ []string) error {
		var page api.Page[api.Quota]
		if err := c.call(ctx, http.MethodGet, "/quotas", nil, &page); err != nil {
			return err
		}
		if *f.json {
			return printJSON(env.Out, page.Items)
		}
		var rows [][]string
		for _, q := range page.Items {
			state := "counted " + at(q.Counted)
			if q.Counting {
				state = "being counted"
			}
			rows = append(rows, []string{q.Store + ":" + q.Folder, fill(q.Used, q.Quota), strings.Join(q.Accounts, ", "), state})
		}
		table(env.Out, "FOLDER|HOLDS|ACCOUNTS#3|STATE#4", rows)
		return nil
	}
}

// placeOf reads STORE:FOLDER.
func placeOf(text string) (api.QuotaPlace, error) {
	store, folder, ok := strings.Cut(text, ":")
	if !ok {
		return api.QuotaPlace{}, command.Usagef("%q is not STORE:FOLDER; quota list shows the ones there are", text)
	}
	if folder == "/" {
		folder = "."
	}
	return api.QuotaPlace{Store: store, Folder: folder}, nil
}

func quotaHistory(flags *flag.FlagSet, f *common) run {
	days := flags.Int("days", 30, "how many `days` back")
	return func(ctx context.Context, env command.Env, c *client, args []string) error {
		place, err := placeOf(args[0])
		if err != nil {
			return err
		}
		query := url.Values{"store": {place.Store}, "folder": {place.Folder}, "days": {fmt.Sprint(*days)}}
		var page api.Page[api.QuotaSample]
		if err := c.call(ctx, http.MethodGet, "/quotas/history?"+query.Encode(), nil, &page); err != nil {
			return err
		}
		if *f.json {
			return printJSON(env.Out, page.Items)
		}
		var rows [][]string
		for _, s := range page.Items {
			rows = append(rows, []string{at(&s.At), size(s.Bytes), fmt.Sprint(s.Files)})
		}
		table(env.Out, "HOUR|BYTES|FILES", rows)
		return nil
	}
}

func quotaRecount(_ *flag.FlagSet, f *common) run {
	return func(ctx context.Context, env command.Env, c *client, args []string) error {
		place, err := placeOf(args[0])
		if err != nil {
			return err
		}
		var d api.Recount
		if err := c.call(ctx, http.MethodPost, "/quotas/recount", place, &d); err != nil {
			return err
		}
		if *f.json {
			return printJSON(env.Out, d)
		}
		what := "as was known"
		if d.BytesBefore != d.BytesNow || d.FilesBefore != d.FilesNow {
			what = fmt.Sprintf("not %s in %s, as was known", size(d.BytesBefore), keep.SayMany(d.FilesBefore, "file"))
		}
		fmt.Fprintf(env.Out, "%s holds %s in %s, %s\n", args[0], size(d.BytesNow), keep.SayMany(d.FilesNow, "file"), what)
		return nil
	}
}

func gateCommands() []*command.Command {
	return []*command.Command{
		clientCommand("gate show", "", "Show which networks may connect at all", "Listeners, groups and accounts have rules of their own: listener list, account show.", gateShow),
		clientCommand("gate set", "", "Say which networks may connect at all", "Sessions that are open stay. The control socket stays open to this machine's administrator.", gateSet),
	}
}

func gateShow(_ *flag.FlagSet, f *common) run {
	return func(ctx context.Context, env command.Env, c *client, _ []string) error {
		var g api.Gate
		if err := c.call(ctx, http.MethodGet, "/gate", nil, &g); err != nil {
			return err
		}
		return sayGate(env, f, g)
	}
}

func sayGate(env command.Env, f *common, g api.Gate) error {
	if *f.json {
		return printJSON(env.Out, g)
	}
	say := func(n keep.Networks, none string) string {
		if len(n) == 0 {
			return none
		}
		return strings.ReplaceAll(n.String(), ",", ", ")
	}
	table(env.Out, "GATE|NETWORKS", [][]string{{"allowed", say(g.Allow, "everybody")}, {"denied", say(g.Deny, "nobody")}})
	return nil
}

func gateSet(flags *flag.FlagSet, f *common) run {
	allow := flags.String("allow", "", "`networks` that alone may connect, as in 192.0.2.0/24,2001:db8::/32; or everybody")
	deny := flags.String("deny", "", "`networks` that may not connect, whatever is allowed; or nobody")
	meant := flags.Bool("meant", false, "do it although it shuts you out yourself")
	return func(ctx context.Context, env command.Env, c *client, _ []string) error {
		var g api.Gate
		if err := c.call(ctx, http.MethodGet, "/gate", nil, &g); err != nil {
			return err
		}
		if *allow == "" && *deny == "" {
			return command.Usagef("say what to change: -allow or -deny")
		}
		for _, one := range []struct {
			text  string
			into  *keep.Networks
			parse func(field, text string) (keep.Networks, error)
		}{{*allow, &g.Allow, keep.ParseAllowed}, {*deny, &g.Deny, keep.ParseDenied}} {
			if one.text != "" {
				var err error
				if *one.into, err = one.parse("", one.text); err != nil {
					return command.Usagef("%s", err)
				}
			}
		}
		g.Meant = *meant
		if err := c.call(ctx, http.MethodPut, "/gate", g, &g); err != nil {
			return err
		}
		if rules := (keep.Rules{Allow: g.Allow, Deny: g.Deny}); !rules.Admit("127.0.0.1") {
			fmt.Fprintln(env.Err, "note: this machine does not let itself in any more: the console can't be reached at 127.0.0.1, nor tried by checkup; commands on the machine still work")
		}
		return sayGate(env, f, g)
	}
}
