package cli

import (
	"context"
	"flag"
	"fmt"
	"net/http"
	"os"
	"slices"
	"strconv"
	"strings"

	"urbankeep/internal/api"
	"urbankeep/internal/face/command"
	"urbankeep/internal/keep"
)

const sourceHelp = `A directory is named by ldaps://HOST or ldap://HOST (StartTLS), a RADIUS server by HOST:PORT; several are asked in their order.
A single sign-on is named by the https:// address of its provider (OpenID Connect) or of its metadata (-saml), or by -metadata.
The password of -bind-as, or the secret that a RADIUS server or a provider knows this service by, is asked for, else read from
standard input.
Nobody is asked for anything until a route says so: route add '*@partner.example' NAME.`

func sourceCommands() []*command.Command {
	return []*command.Command{
		clientCommand("source list", "", "List who says whether somebody is who they say", "", sourceList),
		clientCommand("source add", "NAME [SERVER ...]", "Take people from a directory, RADIUS or single sign-on", sourceHelp, sourceAdd),
		clientCommand("source set", "NAME", "Change a source; what is not named stays", sourceHelp, sourceSet),
		clientCommand("source remove", "NAME", "Remove a source that no account and no route needs", "", func(_ *flag.FlagSet, f *common) run { return deletion(f, "/sources/", "source %s removed\n") }),
		clientCommand("source check", "NAME", "Try a source step by step", "Exit status 1 when a step fails.", sourceCheck),
		clientCommand("source sync", "NAME", "Say who comes, changes and leaves by a directory, or do it",
			"It reads everybody whom the directory knows. Leavers are suspended, never deleted. Without -go nothing is done.", sourceSync),
		clientCommand("route list", "", "List which sources are asked, by the account's name", "", routeList),
		clientCommand("route add", "PATTERN SOURCE [SOURCE ...]", "Have sources asked for accounts whose names fit a pattern",
			"The first route that fits decides; who fits none is looked up in the own records. The source named own is those.", routeAdd),
		clientCommand("route remove", "PATTERN", "Take a route away", "", routeRemove),
	}
}

func sourceList(_ *flag.FlagSet, f *common) run {
	return func(ctx context.Context, env command.Env, c *client, _ []string) error {
		var page api.Page[api.Source]
		if err := c.call(ctx, http.MethodGet, "/sources", nil, &page); err != nil {
			return err
		}
		if *f.json {
			return printJSON(env.Out, page.Items)
		}
		rows := [][]string{{keep.OwnSource, "", "the records of this service", "ready", "", ""}}
		for _, s := range page.Items {
			state := "ready"
			switch {
			case s.Off:
				state = "OFF"
			case s.AwaySince != nil:
				state = "AWAY since " + at(s.AwaySince) + ": " + s.Trouble
			}
			rows = append(rows, []string{s.Name, string(s.Kind), strings.Join(s.Servers, " "), state, strconv.Itoa(s.Accounts), s.Note})
		}
		table(env.Out, "SOURCE|KIND#3|SERVERS|STATE|ACCOUNTS#2|NOTE#4", rows)
		return nil
	}
}

// sourceFields are what flags say of a source, by the names of the API.
type sourceFields map[string]any

func sourceFlags(flags *flag.FlagSet) sourceFields {
	said := sourceFields{}
	text := func(name, field, usage string) {
		flags.Func(name, usage, func(text string) error { said[field] = text; return nil })
	}
	yes := func(name, field string, value bool, usage string) {
		flags.BoolFunc(name, usage, func(string) error { said[field] = value; return nil })
	}
	long := func(name, field, usage string) {
		flags.Func(name, usage, func(text string) error {
			var s keep.Seconds
			err := s.UnmarshalText([]byte(text))
			said[field] = s
			return err
		})
	}
	text("note", "note", "`note` for the list")
	long("timeout", "timeout", "how `long` one question may take, as in 2s")
	text("away", "away", "what happens while it can't be asked: `refuse`, or recent, which lets in who was let in a short while ago")
	long("recent", "recent", "how `long` ago that may be, as in 12h")
	text("suffix", "suffix", "what stands behind its names here, as in `@partner.example`: it is asked for what stands before that; none for nothing")
	long("every", "every", "how `often` all of it is read and accounts are kept in step, as in 1h; 0 is never")
	flags.Func("leavers", "how `many` accounts may be suspended at once without an operator; 20 where nothing is said", func(text string) error {
		n, err := strconv.Atoi(text)
		said["leavers"] = n
		return err
	})
	yes("makes", "makes", true, "an account is made at the first sign-in of somebody who has none")
	yes("makes-none", "makes", false, "only who has an account already signs in")
	flags.Func("group", "`group` of accounts that come from it and are in none of -table; may be given several times, none for none", func(name string) error {
		said.add("groups", name)
		return nil
	})
	flags.Func("table", "`THEIRS=OURS`: who is in that group of theirs (its DN or name) is in that one of ours; may be given several times, none for none", func(row string) error {
		if row == "none" {
			said["table"] = []any{}
			return nil
		}
		cut := strings.LastIndexByte(row, '=')
		if cut < 0 {
			return fmt.Errorf("use THEIRS=OURS, as in surveyors=crews")
		}
		said.add("table", keep.GroupRow{Theirs: row[:cut], Ours: row[cut+1:]})
		return nil
	})
	flags.Func("trust", "`file` (PEM) with the certificate of the authority that signed the directory's; none: those of the system", func(file string) error {
		if file == "none" {
			said["trust"] = ""
			return nil
		}
		text, err := os.ReadFile(file)
		said["trust"] = string(text)
		return err
	})
	yes("plain", "plain", true, "passwords may go to ldap:// without TLS")
	yes("tls", "plain", false, "they may not")
	text("bind-as", "bindAs", "`DN` that looks people up; its password is asked for; none for nobody")
	text("base", "base", "`DN` below which people are")
	text("people", "people", "`filter` of people, as in (objectClass=person)")
	text("name-attribute", "nameAttribute", "`attribute` or claim that holds the name; uid in directories where nothing is said, preferred_username in OpenID Connect, the subject's name in SAML")
	text("mail-attribute", "mailAttribute", "`attribute` or claim that holds the e-mail address; mail in directories where nothing is said, email in single sign-on")
	text("key-attribute", "keyAttribute", "`attribute` that holds SSH public keys, which then count as the account's; none for none")
	text("group-base", "groupBase", "`DN` below which groups are; without it people's memberOf says their groups; none for none")
	yes("nested", "nested", true, "groups may hold groups")
	yes("flat", "nested", false, "only the groups that somebody is in directly count")
	text("label", "label", "`text` by which people know a single sign-on, on the page where they sign in")
	text("known-as", "knownAs", "`name` by which its provider knows this service: the client ID, in SAML the entity ID")
	text("group-attribute", "groupAttribute", "`claim` that holds groups; groups where nothing is said")
	flags.Func("scope", "`scope` that is asked for besides openid; profile and email where nothing is said; may be given several times, none for none", func(name string) error {
		said.add("scopes", name)
		return nil
	})
	flags.Func("role", "`THEIRS=ROLE`: who is in that group of theirs is an operator with that role (owner, manager, auditor); may be given several times, none for none", func(row string) error {
		if row == "none" {
			said["roles"] = []any{}
			return nil
		}
		cut := strings.LastIndexByte(row, '=')
		if cut < 0 {
			return fmt.Errorf("use THEIRS=ROLE, as in it-desk=manager")
		}
		said.add("roles", keep.RoleRow{Theirs: row[:cut], Role: keep.Role(row[cut+1:])})
		return nil
	})
	flags.Func("metadata", "`file` with the SAML metadata of a provider that gives it at no address", func(file string) error {
		text, err := os.ReadFile(file)
		said["metadata"] = string(text)
		return err
	})
	return said
}

// add appends to a list; none empties it.
func (s sourceFields) add(field string, value any) {
	if value == "none" {
		s[field] = []any{}
		return
	}
	all, _ := s[field].([]any)
	s[field] = append(all, value)
}

// clean takes the word none for nothing where that is meant.
func (s sourceFields) clean() {
	for _, field := range []string{"bindAs", "keyAttribute", "groupBase", "suffix"} {
		if s[field] == "none" {
			s[field] = ""
		}
	}
	if s["bindAs"] == "" {
		s["secret"] = ""
	}
}

func sourceAdd(flags *flag.FlagSet, f *common) run {
	said := sourceFlags(flags)
	saml := flags.Bool("saml", false, "the provider of a single sign-on speaks SAML 2.0, and its metadata is at that address")
	public := flags.Bool("public", false, "the provider of a single sign-on knows this service without a secret")
	return func(ctx context.Context, env command.Env, c *client, args []string) error {
		said.clean()
		said["name"], said["servers"] = args[0], args[1:]
		first := strings.Join(args[1:min(2, len(args))], "")
		scheme, _, isURL := strings.Cut(first, "://")
		secretOf := ""
		switch as, _ := said["bindAs"].(string); {
		case said["metadata"] != nil || *saml:
			said["kind"], said["standard"] = keep.SSOKind, keep.SAML
		case first == "":
			return command.Usagef("name its server, as in ldaps://directory.portselwyn.example, or give its SAML -metadata")
		case !isURL:
			said["kind"], secretOf = keep.RadiusKind, "the secret that "+first+" knows this service by"
		case scheme == "http" || scheme == "https":
			if said["kind"], said["standard"] = keep.SSOKind, keep.OpenID; !*public {
				secretOf = "the client secret that " + first + " knows this service by"
			}
		default:
			if said["kind"] = keep.DirectoryKind; as != "" {
				secretOf = "password of the entry that looks people up"
			}
		}
		if secretOf != "" {
			secret, err := askOnce(env, secretOf)
			if err != nil {
				return err
			}
			said["secret"] = secret
		}
		return sourceSave(ctx, env, c, f, http.MethodPost, "/sources", said)
	}
}

func sourceSet(flags *flag.FlagSet, f *common) run {
	said := sourceFlags(flags)
	flags.Func("servers", "the `servers`, separated by commas", func(text string) error {
		said["servers"] = strings.FieldsFunc(text, func(r rune) bool { return r == ',' || r == ' ' })
		return nil
	})
	secret := flags.Bool("secret", false, "ask for the password or secret anew")
	flags.BoolFunc("off", "it vouches for nobody, until -on", func(string) error { said["off"] = true; return nil })
	flags.BoolFunc("on", "it vouches again", func(string) error { said["off"] = false; return nil })
	return func(ctx context.Context, env command.Env, c *client, args []string) error {
		if len(said) == 0 && !*secret {
			return command.Usagef("say what is to change, as in -timeout 5s")
		}
		said.clean()
		if *secret {
			given, err := askOnce(env, "password or secret of "+args[0])
			if err != nil {
				return err
			}
			said["secret"] = given
		}
		return sourceSave(ctx, env, c, f, http.MethodPatch, "/sources/"+name(args[0]), said)
	}
}

func sourceSave(ctx context.Context, env command.Env, c *client, f *common, method, path string, said sourceFields) error {
	var s api.Source
	if err := c.call(ctx, method, path, said, &s); err != nil {
		return err
	}
	if *f.json {
		return printJSON(env.Out, s)
	}
	where := strings.Join(s.Servers, ", ")
	if s.Metadata != "" {
		where = "its metadata"
	}
	fmt.Fprintf(env.Out, "source %s: %s at %s\n", s.Name, s.Kind, where)
	if method == http.MethodPost && s.Kind == keep.SSOKind {
		fmt.Fprintf(env.Out, "  what its provider must know: source check %s; have it asked: route add PATTERN %s\n", s.Name, s.Name)
	} else if method == http.MethodPost {
		fmt.Fprintf(env.Out, "  try it: source check %s -account NAME; have it asked: route add PATTERN %s\n", s.Name, s.Name)
	}
	return nil
}

func sourceCheck(flags *flag.FlagSet, f *common) run {
	var ask api.SourceTry
	flags.StringVar(&ask.Account, "account", "", "look for the person with this account `name`")
	password := flags.Bool("password", false, "ask for that person's password, or read it from standard input, and try it")
	return func(ctx context.Context, env command.Env, c *client, args []string) error {
		if *password {
			if ask.Account == "" {
				return command.Usagef("say whose password it is: -account NAME")
			}
			given, err := askOnce(env, "password of "+ask.Account)
			if err != nil {
				return err
			}
			ask.Password = given
		}
		var answer api.SourceTried
		if err := c.call(ctx, http.MethodPost, "/sources/"+name(args[0])+"/check", ask, &answer); err != nil {
			return err
		}
		if *f.json {
			if err := printJSON(env.Out, answer); err != nil {
				return err
			}
		} else {
			var rows [][]string
			for _, s := range answer.Steps {
				rows = append(rows, []string{s.Name, map[bool]string{true: "ok", false: "NO"}[s.OK], s.Say})
			}
			table(env.Out, "STEP||WHAT CAME OF IT", rows)
		}
		if !answer.OK {
			return fmt.Errorf("the source %s can't be used as it is: see the step that says NO", args[0])
		}
		return nil
	}
}

func sourceSync(flags *flag.FlagSet, f *common) run {
	var ask api.SyncAsk
	flags.BoolVar(&ask.Go, "go", false, "do it")
	flags.IntVar(&ask.Leavers, "leavers", 0, "how `many` accounts may be suspended, this once")
	return func(ctx context.Context, env command.Env, c *client, args []string) error {
		var answer api.SourceSync
		if err := c.call(ctx, http.MethodPost, "/sources/"+name(args[0])+"/sync", ask, &answer); err != nil {
			return err
		}
		if *f.json {
			if err := printJSON(env.Out, answer); err != nil {
				return err
			}
		} else {
			var rows [][]string
			for _, l := range answer.Lines {
				rows = append(rows, []string{l.Account, l.Does, l.Say})
			}
			table(env.Out, "ACCOUNT|DOES|WHY", rows)
			said := "would come, %d change, %d be suspended: source sync %s -go does it\n"
			if answer.Done {
				said = "came, %d changed, %d were suspended (%s)\n"
			}
			if answer.Come+answer.Change+answer.Leave == 0 {
				fmt.Fprintf(env.Out, "%s knows %d people; the accounts are in step\n", args[0], answer.People)
			} else {
				fmt.Fprintf(env.Out, "%s knows %d people; %d "+said, args[0], answer.People, answer.Come, answer.Change, answer.Leave, args[0])
			}
		}
		if answer.Stopped != "" {
			return fmt.Errorf("%s", answer.Stopped)
		}
		return nil
	}
}

func routesNow(ctx context.Context, c *client) (now api.Routes, err error) {
	return now, c.call(ctx, http.MethodGet, "/routes", nil, &now)
}

func showRoutes(env command.Env, f *common, now api.Routes) error {
	if *f.json {
		return printJSON(env.Out, now)
	}
	var rows [][]string
	for i, r := range now.Routes {
		rows = append(rows, []string{strconv.Itoa(i + 1), r.Pattern, strings.Join(r.Sources, ", then ")})
	}
	rows = append(rows, []string{strconv.Itoa(len(now.Routes) + 1), "everybody else", keep.OwnSource})
	table(env.Out, "ROUTE|ACCOUNTS|SOURCES", rows)
	if len(now.ShutOut) > 0 {
		fmt.Fprintf(env.Out, "These can't sign in, for their route does not ask the source they come from: %s\n", strings.Join(now.ShutOut, ", "))
	}
	return nil
}

func routeList(_ *flag.FlagSet, f *common) run {
	return func(ctx context.Context, env command.Env, c *client, _ []string) error {
		now, err := routesNow(ctx, c)
		if err != nil {
			return err
		}
		return showRoutes(env, f, now)
	}
}

func routeAdd(flags *flag.FlagSet, f *common) run {
	before := flags.Int("before", 0, "put it before the route with this `number`; else it is the last")
	return func(ctx context.Context, env command.Env, c *client, args []string) error {
		now, err := routesNow(ctx, c)
		if err != nil {
			return err
		}
		at := len(now.Routes)
		if *before > 0 {
			at = min(*before-1, at)
		}
		now.ShutOut = nil
		now.Routes = slices.Insert(now.Routes, at, keep.Route{Pattern: args[0], Sources: args[1:]})
		return saveRoutes(ctx, env, c, f, now)
	}
}

func saveRoutes(ctx context.Context, env command.Env, c *client, f *common, now api.Routes) error {
	if err := c.call(ctx, http.MethodPut, "/routes", now, &now); err != nil {
		return err
	}
	return showRoutes(env, f, now)
}

func routeRemove(_ *flag.FlagSet, f *common) run {
	return func(ctx context.Context, env command.Env, c *client, args []string) error {
		now, err := routesNow(ctx, c)
		if err != nil {
			return err
		}
		kept := slices.DeleteFunc(slices.Clone(now.Routes), func(r keep.Route) bool { return strings.EqualFold(r.Pattern, args[0]) })
		if len(kept) == len(now.Routes) {
			return fmt.Errorf("there is no route %s: route list shows the ones there are", args[0])
		}
		return saveRoutes(ctx, env, c, f, api.Routes{Routes: kept})
	}
}
