package cli

import (
	"cmp"
	"context"
	"flag"
	"fmt"
	"net/http"
	"slices"
	"strconv"
	"strings"

	"urbankeep/internal/api"
	"urbankeep/internal/face/command"
	"urbankeep/internal/keep"
)

const listenerHelp = `Sessions that are open stay; what a listener asks of clients holds for new connections. A change that can't be
carried out, an address in use say, changes nothing.`

func listenerCommands() []*command.Command {
	return []*command.Command{
		clientCommand("listener list", "", "List the listeners", "", listenerList),
		clientCommand("listener show", "LISTENER", "Show all that is set of a listener", "", listenerShow),
		clientCommand("listener add", "NAME PROTOCOL ADDRESS", "Make a listener and start it",
			"PROTOCOL is ftp (with TLS on request), ftps (TLS from the first byte) or sftp. ADDRESS is 192.0.2.7:21, [2001:db8::7]:21, or :21 for every\naddress of the machine. An FTP listener needs -passive.", listenerAdd),
		clientCommand("listener set", "LISTENER", "Change a listener", listenerHelp, listenerSet),
		clientCommand("listener stop", "LISTENER", "Let a listener take no new connections", "Sessions that are open stay.", func(_ *flag.FlagSet, f *common) run {
			return listenerStopped(f, true)
		}),
		clientCommand("listener start", "LISTENER", "Let a stopped listener take connections again", "", func(_ *flag.FlagSet, f *common) run {
			return listenerStopped(f, false)
		}),
		clientCommand("listener remove", "LISTENER", "Remove a listener; sessions that are open stay", "", listenerRemove),
	}
}

// declareListener declares the flags of a listener's settings; the function gives
// those that were given.
func declareListener(flags *flag.FlagSet) func() (api.ListenerChange, error) {
	text := map[string]*string{}
	for name, usage := range map[string]string{
		"address":    "`host:port` to listen on; no host: every address of the machine",
		"encryption": "`policy` of FTP: required, optional (clients may go without TLS) or off",
		"banner":     "`text` that clients are shown before they sign in; \\n breaks the line",
		"welcome":    "`text` that FTP clients are shown after they signed in; {account} and {time} stand for themselves",
		"allow":      "`networks` that alone may connect, as in 192.0.2.0/24,2001:db8::/32; or everybody",
		"deny":       "`networks` that may not connect, whatever -allow says; or nobody",
		"passive":    "`LOW-HIGH`: the ports of passive FTP",
		"advertise":  "IPv4 `address` or name that clients outside are told for passive FTP, behind a router; \"\" is the one they reached",
	} {
		text[name] = flags.String(name, "", usage)
	}
	active := flags.Bool("active", true, "take active mode (PORT and EPRT); -active=false refuses it")
	resume := flags.Bool("resume-data", false, "data connections must resume the TLS session of their command connection")
	certificates := flags.Bool("client-certificates", false, "ask for a client certificate; its key signs in as an SSH key of the account does")
	return func() (ask api.ListenerChange, err error) {
		flags.Visit(func(given *flag.Flag) {
			if value := text[given.Name]; value != nil && err == nil {
				err = setListenerText(&ask, given.Name, *value)
			}
			switch given.Name {
			case "active":
				ask.Active = active
			case "resume-data":
				ask.ResumeData = resume
			case "client-certificates":
				ask.ClientCertificates = certificates
			}
		})
		return ask, err
	}
}

func setListenerText(ask *api.ListenerChange, name, value string) error {
	broken := strings.ReplaceAll(value, `\n`, "\n")
	switch name {
	case "address":
		ask.Address = &value
	case "encryption":
		ask.Encryption = (*keep.Encryption)(&value)
	case "banner":
		ask.Banner = &broken
	case "welcome":
		ask.Welcome = &broken
	case "allow":
		return setNetworks(&ask.Allow, name, value, keep.ParseAllowed)
	case "deny":
		return setNetworks(&ask.Deny, name, value, keep.ParseDenied)
	case "advertise":
		ask.Advertise = &value
	case "passive":
		from, to, ok := strings.Cut(value, "-")
		low, err1 := strconv.Atoi(from)
		high, err2 := strconv.Atoi(to)
		if !ok || err1 != nil || err2 != nil {
			return command.Usagef("-passive %q is not LOW-HIGH, as in 47000-47099", value)
		}
		ask.PassiveLow, ask.PassiveHigh = &low, &high
	}
	return nil
}

// setNetworks reads a flag that names networks.
func setNetworks(into **[]string, flag, text string, parse func(field, text string) (keep.Networks, error)) error {
	networks, err := parse(flag, text)
	if err != nil {
		return fmt.Errorf("-%w", err)
	}
	list := []string{}
	for _, network := range networks {
		list = append(list, keep.Networks{network}.String())
	}
	*into = &list
	return nil
}

func listenerAdd(flags *flag.FlagSet, f *common) run {
	settings := declareListener(flags)
	return func(ctx context.Context, env command.Env, c *client, args []string) error {
		ask := api.ListenerNew{Name: args[0], Protocol: keep.Protocol(args[1])}
		var err error
		if ask.ListenerChange, err = settings(); err != nil {
			return err
		}
		ask.Address = &args[2]
		var l api.Listener
		if err := c.call(ctx, http.MethodPost, "/listeners", ask, &l); err != nil {
			return err
		}
		return sayListener(env, f, l, "added; it listens on "+l.Listening)
	}
}

func sayListener(env command.Env, f *common, l api.Listener, what string) error {
	if *f.json {
		return printJSON(env.Out, l)
	}
	fmt.Fprintf(env.Out, "listener %s %s\n", l.Name, what)
	if l.Encryption != keep.EncryptionRequired {
		fmt.Fprintln(env.Out, "Passwords and files can go in clear over it; such sessions are marked.")
	}
	return nil
}

func listenerSet(flags *flag.FlagSet, f *common) run {
	settings := declareListener(flags)
	return func(ctx context.Context, env command.Env, c *client, args []string) error {
		ask, err := settings()
		if err != nil {
			return err
		}
		if ask == (api.ListenerChange{}) {
			return command.Usagef("say what to change; listener set -h shows what can be")
		}
		return changeListener(ctx, env, c, f, args[0], ask, "changed; it holds for new connections")
	}
}

func changeListener(ctx context.Context, env command.Env, c *client, f *common, listener string, ask api.ListenerChange, what string) error {
	var l api.Listener
	if err := c.call(ctx, http.MethodPatch, "/listeners/"+name(listener), ask, &l); err != nil {
		return err
	}
	return sayListener(env, f, l, c.now(what))
}

func listenerStopped(f *common, stopped bool) run {
	what := map[bool]string{true: "takes no new connections", false: "takes connections"}[stopped]
	return func(ctx context.Context, env command.Env, c *client, args []string) error {
		return changeListener(ctx, env, c, f, args[0], api.ListenerChange{Stopped: &stopped}, what)
	}
}

func listenerRemove(_ *flag.FlagSet, f *common) run {
	return func(ctx context.Context, env command.Env, c *client, args []string) error {
		if err := c.call(ctx, http.MethodDelete, "/listeners/"+name(args[0]), nil, nil); err != nil {
			return err
		}
		if *f.json {
			return printJSON(env.Out, map[string]string{"removed": args[0]})
		}
		fmt.Fprintf(env.Out, "listener %s removed; its open sessions stay\n", args[0])
		return nil
	}
}

func listenerList(_ *flag.FlagSet, f *common) run {
	return func(ctx context.Context, env command.Env, c *client, _ []string) error {
		var page api.Page[api.Listener]
		if err := c.call(ctx, http.MethodGet, "/listeners", nil, &page); err != nil {
			return err
		}
		if *f.json {
			return printJSON(env.Out, page.Items)
		}
		listenerTable(env, page.Items)
		return nil
	}
}

func listenerShow(_ *flag.FlagSet, f *common) run {
	return func(ctx context.Context, env command.Env, c *client, args []string) error {
		var page api.Page[api.Listener]
		if err := c.call(ctx, http.MethodGet, "/listeners", nil, &page); err != nil {
			return err
		}
		at := slices.IndexFunc(page.Items, func(l api.Listener) bool { return l.Name == args[0] })
		if at < 0 {
			return keep.NoSuch("listener", args[0])
		}
		l := page.Items[at]
		if *f.json {
			return printJSON(env.Out, l)
		}
		say := func(list []string, none string) string { return cmp.Or(strings.Join(list, ", "), none) }
		rows := [][]string{{"protocol", string(l.Protocol)}, {"address", l.Address}, {"listens on", cmp.Or(l.Listening, map[bool]string{true: "nothing: it is stopped", false: "nothing: it can't"}[l.Stopped])}, {"encryption", string(l.Encryption)},
			{"allowed", say(l.Allow, "everybody")}, {"denied", say(l.Deny, "nobody")}, {"banner", dash(l.Banner)}}
		if l.Protocol != keep.SFTP {
			onOff := map[bool]string{true: "yes", false: "no"}
			rows = append(rows, []string{"welcome", dash(l.Welcome)}, []string{"passive ports", fmt.Sprintf("%d-%d, %d in use, used up %s", l.PassiveLow, l.PassiveHigh, l.PassiveTaken, keep.SayMany(l.PassiveRefused, "time"))},
				[]string{"told to clients", cmp.Or(l.Advertise, "the address they reached")}, []string{"active mode", onOff[l.Active]}, []string{"data resumes TLS", onOff[l.ResumeData]}, []string{"asks for certificates", onOff[l.ClientCertificates]})
		}
		table(env.Out, "LISTENER|"+l.Name, rows)
		return nil
	}
}

func listenerTable(env command.Env, listeners []api.Listener) {
	var rows [][]string
	for _, l := range listeners {
		address := l.Listening
		if address == "" {
			address = l.Address + map[bool]string{true: " (stopped)", false: " (CAN'T LISTEN)"}[l.Stopped]
		}
		passive := "-"
		if l.PassiveLow != 0 {
			passive = fmt.Sprintf("%d-%d", l.PassiveLow, l.PassiveHigh)
		}
		if l.PassiveRefused > 0 {
			passive += ", used up " + keep.SayMany(l.PassiveRefused, "time")
		}
		rows = append(rows, []string{l.Name, string(l.Protocol), address, string(l.Encryption), passive, dash(strings.Join(listenerRules(l), ", "))})
	}
	table(env.Out, "LISTENER|PROTOCOL|ADDRESS|ENCRYPTION#3|PASSIVE PORTS#4|RULES", rows)
}

// listenerRules are what is not as usual.
func listenerRules(l api.Listener) (rules []string) {
	add := func(when bool, rule string) {
		if when {
			rules = append(rules, rule)
		}
	}
	add(len(l.Allow) > 0, "only from "+strings.Join(l.Allow, " "))
	add(len(l.Deny) > 0, "not from "+strings.Join(l.Deny, " "))
	add(l.Advertise != "", "advertises "+l.Advertise)
	add(!l.Active, "passive only")
	add(l.ResumeData, "data resumes TLS")
	add(l.ClientCertificates, "client certificates")
	return rules
}
