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
			"PROTOCOL is ftp (with TLS on request), ftps (TLS from the first byte), sftp or web. ADDRESS is 192.0.2.7:21, [2001:db8::7]:21, or :21 for every\naddress of the machine. An FTP listener needs -passive, a web listener -faces or -redirect; it speaks TLS unless -encryption off is said.", listenerAdd),
		clientCommand("listener set", "LISTENER", "Change a listener", listenerHelp, listenerSet),
		clientCommand("listener stop", "LISTENER", "Let a listener take no new connections", "Sessions that are open stay.", func(flags *flag.FlagSet, f *common) run {
			return listenerStopped(flags, f, true)
		}),
		clientCommand("listener start", "LISTENER", "Let a stopped listener take connections again", "", func(flags *flag.FlagSet, f *common) run {
			return listenerStopped(flags, f, false)
		}),
		clientCommand("listener remove", "LISTENER", "Remove a listener; sessions that are open stay", "", listenerRemove),
	}
}

// declareListener declares the flags of a listener's settings; the function gives
// those that were given.
func declareListener(flags *flag.FlagSet) func() (api.ListenerChange, error) {
	text := map[string]*string{}
	for name, usage := range map[string]string{
		"address":     "`host:port` to listen on; no host: every address of the machine",
		"encryption":  "`policy`: required, optional (FTP clients may go without TLS) or off (FTP, web)",
		"banner":      "`text` that clients are shown before they sign in; \\n breaks the line",
		"welcome":     "`text` that FTP clients are shown after they signed in; {account} and {time} stand for themselves",
		"allow":       "`networks` that alone may connect, as in 192.0.2.0/24,2001:db8::/32; or everybody",
		"deny":        "`networks` that may not connect, whatever -allow says; or nobody",
		"proxies":     "`networks` of proxies: what comes from them must say for whom it is (PROXY protocol 1 or 2), and is believed; or none",
		"certificate": "`name` of a certificate of certificate list; \"\" chooses by the name that the client asks for",
		"faces":       "what a web listener serves: `console,portal,passes,dav`",
		"hosts":       "`names` that a web listener answers to, as in files.example.org,*.example.net; \"\" is every name",
		"redirect":    "web `listener` with TLS, or an origin as in https://files.example.org, that a web listener without it sends everything on to",
		"passive":     "`LOW-HIGH`: the ports of passive FTP",
		"advertise":   "IPv4 `address` or name that clients outside are told for passive FTP, behind a router; \"\" is the one they reached",
	} {
		text[name] = flags.String(name, "", usage)
	}
	active := flags.Bool("active", true, "take active mode (PORT and EPRT); -active=false refuses it")
	resume := flags.Bool("resume-data", false, "data connections must resume the TLS session of their command connection")
	certificates := flags.Bool("client-certificates", false, "ask for a client certificate; its key signs in as an SSH key of the account does")
	forwarded := flags.String("forwarded", "", "the `headers` by which the -proxies of a web listener tell for whom they ask: forwarded, or x-forwarded-for, with x-forwarded-proto and x-forwarded-host where the proxy writes those whatever the client sent, as in x-forwarded-for,x-forwarded-proto; none is the PROXY protocol")
	meant := flags.Bool("meant", false, "do it although it shuts you out yourself, or lets passwords go in clear")
	return func() (ask api.ListenerChange, err error) {
		ask.Meant = *meant
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
			case "forwarded":
				ask.Forwarded = (*keep.Forwarding)(forwarded)
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
	case "proxies":
		return setNetworks(&ask.Proxies, name, value, keep.ParseDenied)
	case "certificate":
		ask.Certificate = &value
	case "faces":
		ask.Faces = &[]keep.Face{}
		for _, face := range listed(value) {
			*ask.Faces = append(*ask.Faces, keep.Face(face))
		}
	case "hosts":
		hosts := listed(value)
		ask.Hosts = &hosts
	case "redirect":
		ask.Redirect = &value
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

// listed reads the words of a list.
func listed(text string) []string {
	return append([]string{}, strings.FieldsFunc(text, func(r rune) bool { return r == ',' || r == ' ' })...)
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
	if l.Encryption != keep.EncryptionRequired && (l.Protocol != keep.Web || !strings.HasPrefix(l.Listening, "127.") && len(l.Proxies) == 0 && l.Redirect == "") {
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
		if ask == (api.ListenerChange{Meant: ask.Meant}) {
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

func listenerStopped(flags *flag.FlagSet, f *common, stopped bool) run {
	meant := flags.Bool("meant", false, "do it although it shuts you out yourself")
	what := map[bool]string{true: "takes no new connections", false: "takes connections"}[stopped]
	return func(ctx context.Context, env command.Env, c *client, args []string) error {
		return changeListener(ctx, env, c, f, args[0], api.ListenerChange{Stopped: &stopped, Meant: *meant}, what)
	}
}

func listenerRemove(flags *flag.FlagSet, f *common) run {
	meant := flags.Bool("meant", false, "do it although it shuts you out yourself")
	return func(ctx context.Context, env command.Env, c *client, args []string) error {
		if err := c.call(ctx, http.MethodDelete, fmt.Sprintf("/listeners/%s?meant=%t", name(args[0]), *meant), nil, nil); err != nil {
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
			{"allowed", say(l.Allow, "everybody")}, {"denied", say(l.Deny, "nobody")}}
		if l.Protocol != keep.Web {
			rows = append(rows, []string{"banner", dash(l.Banner)})
		}
		onOff := map[bool]string{true: "yes", false: "no"}
		if len(l.Proxies) > 0 {
			rows = append(rows, []string{"proxies", strings.Join(l.Proxies, ", ") + ", by " + cmp.Or(strings.ReplaceAll(string(l.Forwarded), ",", ", "), "the PROXY protocol")})
		}
		if l.Protocol != keep.SFTP && l.Encryption != keep.EncryptionOff {
			rows = append(rows, []string{"certificate", cmp.Or(l.Certificate, "by the name that is asked for")})
		}
		switch {
		case l.Redirect != "":
			rows = append(rows, []string{"sends on to", l.Redirect})
		case l.Protocol == keep.Web:
			rows = append(rows, []string{"serves", faceList(l.Faces)}, []string{"answers to", say(l.Hosts, "every name")})
		}
		if l.Protocol.IsFTP() {
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
		if l.Protocol == keep.Web {
			address = map[bool]string{true: "http://", false: "https://"}[l.Encryption == keep.EncryptionOff] + address
		}
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

func faceList(faces []keep.Face) string {
	list := make([]string, len(faces))
	for i, face := range faces {
		list[i] = string(face)
	}
	return strings.Join(list, ", ")
}

// listenerRules are what is not as usual.
func listenerRules(l api.Listener) (rules []string) {
	add := func(when bool, rule string) {
		if when {
			rules = append(rules, rule)
		}
	}
	add(len(l.Faces) > 0, faceList(l.Faces))
	add(l.Redirect != "", "sends on to "+l.Redirect)
	add(len(l.Hosts) > 0, "as "+strings.Join(l.Hosts, " "))
	add(len(l.Proxies) > 0, "behind "+strings.Join(l.Proxies, " "))
	add(l.Certificate != "", "certificate "+l.Certificate)
	add(len(l.Allow) > 0, "only from "+strings.Join(l.Allow, " "))
	add(len(l.Deny) > 0, "not from "+strings.Join(l.Deny, " "))
	add(l.Advertise != "", "advertises "+l.Advertise)
	add(!l.Active && l.Protocol.IsFTP(), "passive only")
	add(l.ResumeData, "data resumes TLS")
	add(l.ClientCertificates, "client certificates")
	return rules
}
