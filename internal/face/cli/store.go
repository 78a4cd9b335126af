package cli

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"io/fs"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"time"

	"urbankeep/internal/api"
	"urbankeep/internal/face/command"
	"urbankeep/internal/keep"
)

func storeCommands() []*command.Command {
	return []*command.Command{
		clientCommand("store add", "NAME [FOLDER]", "Make a folder, a bucket or another server a store", storeAddHelp, storeAdd),
		clientCommand("store list", "", "List the stores and who uses them", "", storeList),
		clientCommand("store check", "NAME", "Try everything that the service asks of a store", "It does so with files of its own, which no account sees and which it removes.", storeCheck),
		clientCommand("store move", "FROM [TO]", "Bring all that is in a store to another, and switch the mounts", storeMoveHelp, storeMove),
		clientCommand("store unlock", "NAME", "Give the passphrase of a sealed store's key", "It holds until the service ends, and is kept in memory only. It is asked for, or comes as the first line of standard input.", storeUnlock),
		clientCommand("store set", "NAME", "Say whether files outlive a power cut, or how a store is reached",
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

const storeAddHelp = `disk    store add plates /srv/plates
sealed  store add safe /srv/safe -kind sealed      files are encrypted; the key is shown once
object  store add cloud -kind object -endpoint https://objects.example.org -bucket city -user KEY
blob    store add vault -kind blob -endpoint https://NAME.blob.core.windows.net -bucket city -user NAME
remote  store add partner /incoming -kind remote -endpoint files.example.org:22 -user city -host-key SHA256:…
The secret of object, blob and remote is asked for, or comes as the first line of standard input.`

// siteFlags are what says where a store lies.
func siteFlags(flags *flag.FlagSet) *keep.Site {
	site := new(keep.Site)
	flags.StringVar(&site.User, "user", "", "`name` that the secret belongs to: access key, storage account, or who signs in")
	flags.StringVar(&site.SecretFrom, "secret-from", "", "`place` of the secret, read when it is needed: file:/PATH or env:NAME")
	flags.StringVar(&site.KeyFile, "key-file", "", "remote: `file` of a private key, on the service's machine")
	flags.Var((*command.List)(&site.HostKeys), "host-key", "remote: `fingerprint` of the other server's host key, SHA256:…; may be given several times")
	flags.Var((*command.List)(&site.Recipients), "recipient", "sealed: public `key` (age1…) of who else can open the files; may be given several times")
	return site
}

func storeAdd(flags *flag.FlagSet, f *common) run {
	kind := flags.String("kind", "disk", "`kind`: disk, sealed, object, blob or remote")
	site := siteFlags(flags)
	flags.StringVar(&site.Endpoint, "endpoint", "", "object, blob: `URL` of the service; remote: HOST:PORT")
	flags.StringVar(&site.Bucket, "bucket", "", "object: `name` of the bucket; blob: of the container")
	flags.StringVar(&site.Prefix, "prefix", "", "object, blob: `path` that all names in the bucket begin with")
	flags.StringVar(&site.Region, "region", "", "object: `region` of the bucket")
	flags.BoolVar(&site.HostStyle, "host-style", false, "object: the bucket is part of the host's name")
	flags.BoolVar(&site.SealNames, "seal-names", false, "sealed: encrypt the names of files too")
	flags.StringVar(&site.Key, "key", "", "sealed: `place` of the key: file:/PATH, or passphrase; without it, in the data folder")
	return func(ctx context.Context, env command.Env, c *client, args []string) (err error) {
		ask := api.StoreNew{Name: args[0], Kind: keep.StoreKind(*kind), Site: *site}
		local := ask.Kind == keep.Disk || ask.Kind == keep.Sealed
		switch {
		case len(args) < 2 && (local || ask.Kind == keep.Remote):
			return command.Usagef("say the folder too, as in store add %s /srv/%s", args[0], args[0])
		case len(args) == 2 && ask.Kind == keep.Remote:
			ask.Site.Folder = args[1]
		case len(args) == 2:
			ask.Folder = args[1]
		}
		if local && c.token == "" { // on this machine a folder may be said from where one stands
			if full, err := filepath.Abs(ask.Folder); err == nil {
				ask.Folder = full
			}
		}
		switch {
		case ask.Kind == keep.Sealed && site.Key == keep.ByPassphrase:
			ask.Passphrase, err = askPassword(env, "the key of the store "+args[0])
		case !local && site.User != "" && site.SecretFrom == "" && site.KeyFile == "":
			ask.Secret, err = askOnce(env, "secret of "+site.User)
		}
		if err != nil {
			return err
		}
		made := ""
		if _, err := os.Stat(ask.Folder); local && c.token == "" && errors.Is(err, fs.ErrNotExist) {
			made = "; the folder was not there, and was made"
		}
		var s api.Store
		if err := c.call(ctx, http.MethodPost, "/stores", ask, &s); err != nil {
			return err
		}
		if *f.json {
			return printJSON(env.Out, s)
		}
		fmt.Fprintf(env.Out, "store %s added: %s%s\n", s.Name, s.Where, made)
		if s.Key != "" {
			fmt.Fprintf(env.Out, "\nThis is the key of its files. Whoever has it can open them, without the service too: age -d -i KEYFILE FILE.\nKeep it in another place than the disk: if it is lost, so are the files. It is not shown again.\n\n%s", s.Key)
		}
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
				fmt.Fprintf(env.Err, "%s: %s\n", s.Away, comeBack(s))
			}
			rows = append(rows, []string{s.Name, string(s.Kind), s.Where, state, string(s.Durability), some(s.MountedBy, s.Users)})
		}
		table(env.Out, "STORE|KIND|WHERE|STATE|OUTLIVES#4|MOUNTED BY#5", rows)
		return nil
	}
}

// comeBack is what to do about a store that is away.
func comeBack(s api.Store) string {
	switch {
	case s.Site != nil && s.Site.Key == keep.ByPassphrase:
		return "give the passphrase: store unlock " + s.Name
	case s.Kind == keep.Disk || s.Kind == keep.Sealed:
		return "mount it; if the folder that is there is the right one, store mark " + s.Name
	}
	return "store check " + s.Name + " shows what can't be done"
}

func storeCheck(_ *flag.FlagSet, f *common) run {
	return func(ctx context.Context, env command.Env, c *client, args []string) error {
		var found api.StoreCheck
		if err := c.call(ctx, http.MethodPost, "/stores/"+url.PathEscape(args[0])+"/check", nil, &found); err != nil {
			return err
		}
		if *f.json {
			if err := printJSON(env.Out, found); err != nil {
				return err
			}
		} else {
			var rows [][]string
			for _, step := range found.Steps {
				state := "fine"
				if !step.Fine {
					state = "FAILED"
				}
				rows = append(rows, []string{step.What, state, fmt.Sprintf("%d ms", step.Took), dash(step.Say)})
			}
			table(env.Out, "STEP|RESULT|TOOK#3|WHY", rows)
		}
		if !found.Fine {
			return fmt.Errorf("the store %s can't do all that the service asks of it", args[0])
		}
		return nil
	}
}

const storeMoveHelp = `The plan is shown first. Files are copied while the service runs, and each is verified by its SHA-256. In the end the sessions that use the store
are ended, the last changes are brought, and the mounts of accounts and groups lead to the other store. The old one stays as it is: look at it, then
store remove FROM. A move goes on after a break of the service, and when this command is ended; store move FROM shows how far it is.`

func storeMove(flags *flag.FlagSet, f *common) run {
	dry := flags.Bool("dry", false, "show the plan, and move nothing")
	meant := flags.Bool("meant", false, "begin without asking")
	stop := flags.Bool("stop", false, "stop the move of FROM; its mounts stay as they are, and so does what was copied")
	return func(ctx context.Context, env command.Env, c *client, args []string) error {
		at := "/stores/" + url.PathEscape(args[0]) + "/move"
		var m api.StoreMove
		if *stop {
			if err := c.call(ctx, http.MethodDelete, at, nil, &m); err != nil {
				return err
			}
			return sayMove(env, f, m)
		}
		if len(args) == 2 {
			if err := c.call(ctx, http.MethodPost, at, api.StoreMoveAsked{To: args[1], Dry: true}, &m); err != nil {
				return err
			}
			if *dry {
				return sayMove(env, f, m)
			}
			if !*meant {
				what := fmt.Sprintf("%s in %s go from %s to %s; then the mounts of %s lead there.", keep.SayMany(m.Files, "file"), size(m.Bytes), m.From, m.To, some(m.MountedBy, m.Users))
				if m.Say != "" {
					what += " Note that " + m.Say + "."
				}
				if m.Left > 0 {
					what += fmt.Sprintf(" %s can't be brought and stay behind.", keep.SayMany(m.Left, "name"))
				}
				if err := confirm(env, what, "add -meant."); err != nil {
					return err
				}
			}
			if err := c.call(ctx, http.MethodPost, at, api.StoreMoveAsked{To: args[1]}, &m); err != nil {
				return err
			}
		} else if err := c.call(ctx, http.MethodGet, at, nil, &m); err != nil {
			return err
		}
		for said := ""; m.Phase != "done" && m.Phase != "failed"; {
			if now := moveLine(m); !*f.json && now != said {
				fmt.Fprintln(env.Err, now)
				said = now
			}
			select {
			case <-ctx.Done():
				return errors.New("it goes on by itself: store move " + m.From + " shows how far it is")
			case <-time.After(time.Second):
			}
			if err := c.call(ctx, http.MethodGet, at, nil, &m); err != nil {
				return err
			}
		}
		if m.Phase == "failed" {
			return fmt.Errorf("the store %s was not moved, and its mounts are as they were: %s", m.From, m.Say)
		}
		return sayMove(env, f, m)
	}
}

func moveLine(m api.StoreMove) string {
	if m.Phase == "closing" {
		return "the last files are brought; nobody uses the store meanwhile"
	}
	return fmt.Sprintf("%s of %s in %s copied and verified", size(m.CopiedBytes), size(m.Bytes), keep.SayMany(m.Files, "file"))
}

func sayMove(env command.Env, f *common, m api.StoreMove) error {
	if *f.json {
		return printJSON(env.Out, m)
	}
	switch m.Phase {
	case "planned":
		fmt.Fprintf(env.Out, "%s in %s would go from %s to %s; then these mounts would lead there: %s\n", keep.SayMany(m.Files, "file"), size(m.Bytes), m.From, m.To, some(m.MountedBy, m.Users))
		if m.Say != "" {
			fmt.Fprintf(env.Out, "Note that %s\n", m.Say)
		}
	case "done":
		fmt.Fprintf(env.Out, "%s is in %s now: %s copied and verified, %d were there. The mounts lead there; %s stays as it was\n", m.From, m.To, keep.SayMany(m.CopiedFiles, "file"), m.SameFiles, m.From)
	default:
		fmt.Fprintf(env.Out, "the move of %s to %s has ended: %s. What was copied stays in %s\n", m.From, m.To, moveLine(m), m.To)
	}
	if m.Left > 0 {
		fmt.Fprintf(env.Out, "%s can't be brought\n", keep.SayMany(m.Left, "name"))
	}
	return nil
}

func storeUnlock(_ *flag.FlagSet, f *common) run {
	return func(ctx context.Context, env command.Env, c *client, args []string) error {
		passphrase, err := askOnce(env, "passphrase of the key of the store "+args[0])
		if err != nil {
			return err
		}
		var s api.Store
		if err := c.call(ctx, http.MethodPost, "/stores/"+url.PathEscape(args[0])+"/unlock", api.Passphrase{Passphrase: passphrase}, &s); err != nil {
			return err
		}
		if *f.json {
			return printJSON(env.Out, s)
		}
		_, err = fmt.Fprintf(env.Out, "store %s can be used until the service ends\n", s.Name)
		return err
	}
}

func storeSet(flags *flag.FlagSet, f *common) run {
	durability := flags.String("durability", "", "power or process: what the `end` of is outlived by what is acknowledged")
	hashes := flags.String("hashes", "", "`on` or off: whether the trail holds the SHA-256 of each whole upload")
	previews := flags.String("previews", "", "`on` or off: whether small pictures are made for the portal, and kept in clear in the data folder")
	site := siteFlags(flags)
	secret := flags.Bool("secret", false, "ask for another secret")
	return func(ctx context.Context, env command.Env, c *client, args []string) error {
		var ask api.StoreChange
		if *durability != "" {
			d := keep.Durability(*durability)
			ask.Durability = &d
		}
		for _, set := range []struct {
			flag, text string
			into       **bool
		}{{"hashes", *hashes, &ask.Hashes}, {"previews", *previews, &ask.Previews}} {
			switch on := set.text == "on"; set.text {
			case "on", "off":
				*set.into = &on
			case "":
			default:
				return command.Usagef("-%s takes on or off", set.flag)
			}
		}
		flags.Visit(func(given *flag.Flag) {
			switch given.Name {
			case "user":
				ask.User = &site.User
			case "secret-from":
				ask.SecretFrom = &site.SecretFrom
			case "key-file":
				ask.KeyFile = &site.KeyFile
			case "host-key":
				ask.HostKeys = &site.HostKeys
			case "recipient":
				ask.Recipients = &site.Recipients
			}
		})
		if *secret {
			text, err := askOnce(env, "secret of the store "+args[0])
			if err != nil {
				return err
			}
			ask.Secret = &text
		}
		if ask == (api.StoreChange{}) {
			return command.Usagef("say what is to change, as in -durability power")
		}
		return storeChanged(ctx, env, c, f, http.MethodPatch, "/stores/"+url.PathEscape(args[0]), ask)
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
	_, err := fmt.Fprintf(env.Out, "store %s in %s: %s\n", s.Name, s.Where, promises[s.Durability])
	if s.Hashes {
		fmt.Fprintln(env.Out, "the trail holds the SHA-256 of each whole upload")
	}
	if !s.Previews {
		fmt.Fprintln(env.Out, "no small pictures are made of what is in it")
	}
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

func quotaList(flags *flag.FlagSet, f *common) run {
	text := textFlag(flags, "store and folder")
	return func(ctx context.Context, env command.Env, c *client, _ []string) error {
		all, err := everyOne[api.Quota](ctx, c, "/quotas", url.Values{"text": {*text}})
		if err != nil {
			return err
		}
		if *f.json {
			return printJSON(env.Out, all)
		}
		var rows [][]string
		for _, q := range all {
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
