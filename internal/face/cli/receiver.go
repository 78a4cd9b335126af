package cli

import (
	"cmp"
	"context"
	"flag"
	"fmt"
	"net"
	"net/http"
	"os"
	"strconv"
	"strings"

	"urbankeep/internal/api"
	"urbankeep/internal/face/command"
	"urbankeep/internal/keep"
)

func receiverCommands() []*command.Command {
	return []*command.Command{
		clientCommand("receiver list", "", "List who can be told, and how that does", "", receiverList),
		clientCommand("receiver add", "NAME URL|ADDRESS [ADDRESS ...]", "Make a receiver of web calls or of mail",
			"With a URL it is called; with e-mail addresses it gets mail, through the server that mail set names. The secret that signs its calls is printed once.", receiverAdd),
		clientCommand("receiver set", "NAME", "Change a receiver; what is not named stays", "", receiverSet),
		clientCommand("receiver remove", "NAME", "Remove a receiver", "", func(_ *flag.FlagSet, f *common) run { return deletion(f, "/receivers/", "receiver %s removed\n") }),
		clientCommand("receiver test", "NAME", "Tell a receiver a sample", "", receiverTest),
		clientCommand("mail show", "", "Show where mail is handed in", "", mailShow),
		clientCommand("mail set", "HOST[:PORT]", "Say where mail is handed in; none for nowhere", "The password is asked for, else read from standard input, where -user is given.", mailSet),
		clientCommand("mail test", "ADDRESS", "Send a mail that says that mail works", "", mailTest),
	}
}

func receiverList(flags *flag.FlagSet, f *common) run {
	own := flags.Bool("own", false, "also account holders who are told something")
	return func(ctx context.Context, env command.Env, c *client, _ []string) error {
		var page api.Page[api.Receiver]
		if err := c.call(ctx, http.MethodGet, fmt.Sprintf("/receivers?own=%t", *own), nil, &page); err != nil {
			return err
		}
		if *f.json {
			return printJSON(env.Out, page.Items)
		}
		var rows [][]string
		for _, r := range page.Items {
			state := "ready"
			switch {
			case r.Off:
				state = "OFF"
			case r.Trouble != "":
				state = "AWAY since " + at(r.Since) + ": " + r.Trouble
			case r.Queued > 0:
				state = "telling"
			}
			rows = append(rows, []string{r.Name, string(r.Kind), where(&r.Receiver), state, strconv.FormatInt(int64(r.Queued)+r.Waiting, 10), strconv.Itoa(r.Aside), r.Note})
		}
		table(env.Out, "RECEIVER|KIND#3|WHERE|STATE|WAITING#2|SET ASIDE#2|NOTE#4", rows)
		return nil
	}
}

// where is how a receiver is reached.
func where(r *keep.Receiver) string {
	switch {
	case r.Kind == keep.WebCall:
		return r.URL
	case r.Account != "":
		return "the address of " + r.Account
	}
	return strings.Join(r.To, " ")
}

// receiverFlags are what both add and set take.
func receiverFlags(flags *flag.FlagSet, ask *api.ReceiverAsk) {
	text := func(name, usage string, into **string) {
		flags.Func(name, usage, func(text string) error { *into = &text; return nil })
	}
	long := func(name, usage string, into **keep.Seconds) {
		flags.Func(name, usage, func(text string) error {
			var s keep.Seconds
			err := s.UnmarshalText([]byte(text))
			*into = &s
			return err
		})
	}
	file := func(name, usage string, into **string) {
		flags.Func(name, usage, func(file string) error {
			if file == "none" {
				*into = new(string)
				return nil
			}
			text, err := os.ReadFile(file)
			*into = new(string(text))
			return err
		})
	}
	text("note", "`note` for the list", &ask.Note)
	long("longest", "how `long` it is tried to tell something before it is set aside; 3d where nothing is said", &ask.Longest)
	text("method", "`method` of calls: POST, PUT, PATCH", &ask.Method)
	flags.Func("header", "a header of calls, as `NAME=@FILE`: the value is read from the file and kept secret; may be repeated", func(text string) error {
		header, from, ok := strings.Cut(text, "=@")
		if !ok {
			return fmt.Errorf("use NAME=@FILE: a value on the command line could be seen by others on this machine")
		}
		value, err := os.ReadFile(from)
		if err != nil {
			return err
		}
		if ask.Headers == nil {
			ask.Headers = &[]api.ReceiverHeader{}
		}
		*ask.Headers = append(*ask.Headers, api.ReceiverHeader{Name: header, Value: new(strings.TrimSpace(string(value)))})
		return nil
	})
	flags.BoolFunc("no-headers", "take all headers away", func(string) error { ask.Headers = &[]api.ReceiverHeader{}; return nil })
	file("body", "`file` with a template of the body, instead of a CloudEvent; none takes it away", &ask.Body)
	text("body-type", "media `type` of that body", &ask.BodyType)
	file("trust", "`file` (PEM) with the certificate of the authority that signed the receiver's; none: those of the system", &ask.Trust)
	long("timeout", "how `long` a call may take, as in 10s", &ask.Timeout)
	flags.BoolFunc("private", "it may be in this machine's or a private network (owners only)", func(string) error { ask.Private = new(true); return nil })
	flags.BoolFunc("public", "it may not", func(string) error { ask.Private = new(false); return nil })
	long("digest", "how often there is one mail about all, as in 1h; 0 is a mail about each", &ask.Digest)
}

func receiverAdd(flags *flag.FlagSet, f *common) run {
	var ask api.ReceiverAsk
	receiverFlags(flags, &ask)
	return func(ctx context.Context, env command.Env, c *client, args []string) error {
		ask.Name = args[0]
		if strings.Contains(args[1], "://") {
			if len(args) > 2 {
				return command.Usagef("a receiver of web calls has one URL")
			}
			ask.Kind, ask.URL = new(keep.WebCall), &args[1]
		} else {
			to := args[1:]
			ask.Kind, ask.To = new(keep.MailMessage), &to
		}
		return receiverSave(ctx, env, c, f, http.MethodPost, "/receivers", &ask)
	}
}

func receiverSet(flags *flag.FlagSet, f *common) run {
	var ask api.ReceiverAsk
	receiverFlags(flags, &ask)
	flags.Func("url", "the `address` that is called", func(text string) error { ask.URL = &text; return nil })
	flags.Func("to", "the e-mail `addresses`", func(text string) error {
		ask.To = new(strings.FieldsFunc(text, func(r rune) bool { return r == ',' || r == ' ' }))
		return nil
	})
	flags.BoolFunc("new-secret", "make a new secret that signs its calls", func(string) error { ask.Secret = new(string); return nil })
	flags.BoolFunc("off", "tell it nothing, until -on; what happens meanwhile it is never told", func(string) error { ask.Off = new(true); return nil })
	flags.BoolFunc("on", "tell it again what happens from now on", func(string) error { ask.Off = new(false); return nil })
	return func(ctx context.Context, env command.Env, c *client, args []string) error {
		if ask == (api.ReceiverAsk{}) {
			return command.Usagef("say what is to change, as in -timeout 5s")
		}
		return receiverSave(ctx, env, c, f, http.MethodPatch, "/receivers/"+name(args[0]), &ask)
	}
}

func receiverSave(ctx context.Context, env command.Env, c *client, f *common, method, path string, ask *api.ReceiverAsk) error {
	var r api.Receiver
	if err := c.call(ctx, method, path, ask, &r); err != nil {
		return err
	}
	if *f.json {
		return printJSON(env.Out, r)
	}
	fmt.Fprintf(env.Out, "receiver %s: %s %s\n", r.Name, r.Kind, where(&r.Receiver))
	if r.Secret != "" {
		fmt.Fprintf(env.Out, "  its calls are signed with %s\n", r.Secret)
	}
	return nil
}

func receiverTest(_ *flag.FlagSet, f *common) run {
	return func(ctx context.Context, env command.Env, c *client, args []string) error {
		var a api.ReceiverAnswer
		if err := c.call(ctx, http.MethodPost, "/receivers/"+name(args[0])+"/test", struct{}{}, &a); err != nil {
			return err
		}
		return samplesTold(env, f, []api.ReceiverAnswer{a})
	}
}

func mailShow(_ *flag.FlagSet, f *common) run {
	return func(ctx context.Context, env command.Env, c *client, _ []string) error {
		var m api.MailServer
		if err := c.call(ctx, http.MethodGet, "/mail", nil, &m); err != nil {
			return err
		}
		return showMail(env, f, &m)
	}
}

func showMail(env command.Env, f *common, m *api.MailServer) error {
	if *f.json {
		return printJSON(env.Out, m)
	}
	if m.Host == "" {
		_, err := fmt.Fprintln(env.Out, "mail is handed in nowhere: mail set names a server")
		return err
	}
	as := "without a sign-in"
	if m.User != "" {
		as = "as " + m.User
	}
	_, err := fmt.Fprintf(env.Out, "mail is handed in at %s (%s), %s, from %s\n", net.JoinHostPort(m.Host, strconv.Itoa(m.Port)), m.Security, as, m.From)
	return err
}

func mailSet(flags *flag.FlagSet, f *common) run {
	var ask api.MailServerAsk
	flags.StringVar(&ask.From, "from", "", "the e-mail `address` from which it comes")
	flags.StringVar(&ask.User, "user", "", "`name` to sign in with; its password is asked for")
	security := flags.String("security", "", "how it is protected on the way: starttls (usual), tls, none")
	trust := flags.String("trust", "", "`file` (PEM) with the certificate of the authority that signed the server's; else those of the system")
	return func(ctx context.Context, env command.Env, c *client, args []string) error {
		host, port, err := net.SplitHostPort(args[0])
		if err != nil {
			host, port = strings.Trim(args[0], "[]"), ""
		}
		if ask.Host = host; host == "none" {
			ask.Host = ""
		}
		if port != "" {
			if ask.Port, err = strconv.Atoi(port); err != nil {
				return command.Usagef("%q is no port", port)
			}
		}
		ask.Security = keep.MailSecurity(*security)
		if *trust != "" {
			text, err := os.ReadFile(*trust)
			if err != nil {
				return err
			}
			ask.Trust = string(text)
		}
		if ask.User != "" {
			given, err := askPassword(env, cmp.Or(ask.User, "the mail server"))
			if err != nil {
				return err
			}
			ask.Password = &given
		}
		var m api.MailServer
		if err := c.call(ctx, http.MethodPut, "/mail", ask, &m); err != nil {
			return err
		}
		return showMail(env, f, &m)
	}
}

func mailTest(_ *flag.FlagSet, f *common) run {
	return func(ctx context.Context, env command.Env, c *client, args []string) error {
		var said api.MailTested
		if err := c.call(ctx, http.MethodPost, "/mail/test", api.MailTest{To: args[0]}, &said); err != nil {
			return err
		}
		if *f.json {
			return printJSON(env.Out, said)
		}
		_, err := fmt.Fprintln(env.Out, said.Said)
		return err
	}
}
