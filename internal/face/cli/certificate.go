package cli

import (
	"context"
	"flag"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strings"

	"urbankeep/internal/api"
	"urbankeep/internal/face/command"
	"urbankeep/internal/keep"
)

func certificateCommands() []*command.Command {
	return []*command.Command{
		clientCommand("certificate list", "", "List the TLS certificates that clients are shown", "A client is shown the one for the name that it asks for, else the main one; a listener can have one of its own (listener set -certificate).", certificateList),
		clientCommand("certificate show", "", "Show a TLS certificate", "", certificateShow),
		clientCommand("certificate follow", "CERTIFICATE KEY", "Use a certificate and key in files, and whatever they become",
			"Both are PEM files on the service's machine that it can read; they are read again when they change, so that a program that renews\nthem needs to do nothing else. Sessions go on.", certificateFollow),
		clientCommand("certificate import", "CERTIFICATE KEY", "Copy a certificate and its key in, and use them", "Both are PEM files.", certificateImport),
		clientCommand("certificate acme", "", "Get certificates from an authority, and renew them",
			"The authority (ACME, RFC 8555) looks for the service under each host name: on port 80, at a web listener without TLS, or on port 443, at one\nwith it. Forward these ports to the listener where it has others. You agree to the terms of the authority.\nFTP and web listeners show the same certificate; renewing it ends no session.", certificateACME),
		clientCommand("certificate renew", "", "Make a new self-signed certificate and use it", "", certificateRenew),
		clientCommand("certificate remove", "CERTIFICATE", "Forget a certificate", "", certificateRemove),
		clientCommand("lockout list", "", "List the addresses and accounts that are locked out after failed sign-ins", "", lockoutList),
		clientCommand("lockout lift", "WHO", "End the lockout of an address or account", "", lockoutLift),
	}
}

func certificateNamed(flags *flag.FlagSet) *string {
	return flags.String("name", "main", "`name` of the certificate; one that is not there yet is made")
}

func sayCertificate(env command.Env, f *common, s api.Certificate) error {
	if *f.json {
		return printJSON(env.Out, s)
	}
	from := s.CertificateFile
	if s.Own {
		from += " (the service's own)"
	}
	signed := s.Issuer
	if s.SelfSigned {
		signed = "itself: clients that do not know it will warn; tell people the fingerprint"
	}
	rows := [][]string{{"for", strings.Join(s.Names, " ")}, {"signed by", signed}, {"chain", fmt.Sprint(s.Chain)}, {"valid", at(&s.Starts) + " to " + at(&s.Expires) + " " + zoneName()},
		{"SHA-256", s.Fingerprint}, {"read from", from}, {"key from", s.KeyFile}}
	if o := s.ACME; o != nil {
		rows = append(rows, []string{"got from", o.Directory}, []string{"as", dash(o.Contact) + " " + o.Account}, []string{"got anew", at(s.Renews) + " " + zoneName()})
	}
	table(env.Out, "CERTIFICATE|"+s.Name, rows)
	if s.Problem != "" {
		fmt.Fprintf(env.Out, "\nThe files have changed and can't be used, so the certificate before it is shown: %s\n", s.Problem)
	}
	if s.Failed > 0 {
		fmt.Fprintf(env.Out, "\nIt could not be renewed, %s: %s\n", keep.SayMany(s.Failed, "attempt"), s.Failure)
	}
	return nil
}

func certificatePage(ctx context.Context, c *client) ([]api.Certificate, error) {
	var page api.Page[api.Certificate]
	err := c.call(ctx, http.MethodGet, "/certificates", nil, &page)
	return page.Items, err
}

func certificateList(_ *flag.FlagSet, f *common) run {
	return func(ctx context.Context, env command.Env, c *client, _ []string) error {
		all, err := certificatePage(ctx, c)
		if err != nil {
			return err
		}
		if *f.json {
			return printJSON(env.Out, all)
		}
		var rows [][]string
		for _, s := range all {
			kind := "kept here"
			switch {
			case s.ACME != nil:
				kind = "got anew " + at(s.Renews)
			case s.SelfSigned:
				kind = "self-signed"
			case !s.Own:
				kind = "follows " + s.CertificateFile
			}
			if s.Failed > 0 || s.Problem != "" {
				kind += ", FAILS"
			}
			rows = append(rows, []string{s.Name, strings.Join(s.Names, " "), at(&s.Expires), kind})
		}
		table(env.Out, "CERTIFICATE|FOR|UNTIL ("+zoneName()+")|HOW", rows)
		return nil
	}
}

func certificateShow(flags *flag.FlagSet, f *common) run {
	which := flags.String("name", "main", "`name` of the certificate")
	return func(ctx context.Context, env command.Env, c *client, _ []string) error {
		all, err := certificatePage(ctx, c)
		if err != nil {
			return err
		}
		for _, s := range all {
			if s.Name == *which {
				return sayCertificate(env, f, s)
			}
		}
		return keep.NoSuch("certificate", *which)
	}
}

func changeCertificate(ctx context.Context, env command.Env, c *client, f *common, which string, ask api.CertificateChange) error {
	var s api.Certificate
	if err := c.call(ctx, http.MethodPut, "/certificates/"+name(which), ask, &s); err != nil {
		return err
	}
	return sayCertificate(env, f, s)
}

func certificateFollow(flags *flag.FlagSet, f *common) run {
	which := certificateNamed(flags)
	return func(ctx context.Context, env command.Env, c *client, args []string) error {
		files := make([]string, 2)
		for i := range files {
			var err error
			if files[i], err = filepath.Abs(args[i]); err != nil {
				return err
			}
		}
		return changeCertificate(ctx, env, c, f, *which, api.CertificateChange{CertificateFile: files[0], KeyFile: files[1]})
	}
}

func certificateImport(flags *flag.FlagSet, f *common) run {
	which := certificateNamed(flags)
	return func(ctx context.Context, env command.Env, c *client, args []string) error {
		text, err := os.ReadFile(args[0])
		if err != nil {
			return fmt.Errorf("read the certificate: %w", err)
		}
		key, err := os.ReadFile(args[1])
		if err != nil {
			return fmt.Errorf("read the key: %w", err)
		}
		return changeCertificate(ctx, env, c, f, *which, api.CertificateChange{Certificate: string(text), Key: string(key)})
	}
}

func certificateRenew(flags *flag.FlagSet, f *common) run {
	which := certificateNamed(flags)
	return func(ctx context.Context, env command.Env, c *client, _ []string) error {
		return changeCertificate(ctx, env, c, f, *which, api.CertificateChange{SelfSigned: true})
	}
}

func certificateACME(flags *flag.FlagSet, f *common) run {
	which := certificateNamed(flags)
	hosts := flags.String("host", "", "`names` that clients come to, as in files.example.org,ftp.example.org")
	order := api.Order{}
	flags.StringVar(&order.Contact, "contact", "", "`mail address` that the authority may write to")
	flags.StringVar(&order.Directory, "directory", "", "`URL` of the authority's directory; without it, that of Let's Encrypt")
	trust := flags.String("trust", "", "`file` with the PEM certificate that vouches for the directory, where this machine does not know it")
	eab := flags.String("eab", "", "`KEY-ID:FILE`: the external account binding that the authority gave, its key in a file, or - for standard input")
	flags.BoolVar(&order.NewAccount, "new-account", false, "with a new account at the authority")
	return func(ctx context.Context, env command.Env, c *client, _ []string) error {
		order.Hosts = listed(*hosts)
		if len(order.Hosts) == 0 {
			return command.Usagef("-host NAMES says for which names it is to be")
		}
		if *trust != "" {
			text, err := os.ReadFile(*trust)
			if err != nil {
				return fmt.Errorf("read who vouches for the directory: %w", err)
			}
			order.Trust = string(text)
		}
		if *eab != "" {
			id, file, ok := strings.Cut(*eab, ":")
			if !ok || id == "" || file == "" {
				return command.Usagef("-eab is KEY-ID:FILE")
			}
			key, err := secretFrom(env, file)
			if err != nil {
				return err
			}
			order.KeyID, order.MAC = id, key
		}
		return changeCertificate(ctx, env, c, f, *which, api.CertificateChange{ACME: &order})
	}
}

// secretFrom reads the first line of a file, or of standard input for "-".
func secretFrom(env command.Env, file string) (string, error) {
	var text []byte
	var err error
	if file == "-" {
		text, err = io.ReadAll(io.LimitReader(env.In, 1<<16))
	} else {
		text, err = os.ReadFile(file)
	}
	line, _, _ := strings.Cut(string(text), "\n")
	return strings.TrimSpace(line), err
}

func certificateRemove(_ *flag.FlagSet, f *common) run {
	return func(ctx context.Context, env command.Env, c *client, args []string) error {
		if err := c.call(ctx, http.MethodDelete, "/certificates/"+name(args[0]), nil, nil); err != nil {
			return err
		}
		if *f.json {
			return printJSON(env.Out, map[string]string{"removed": args[0]})
		}
		fmt.Fprintf(env.Out, "certificate %s removed; clients are shown another from now on\n", args[0])
		return nil
	}
}

func lockoutList(flags *flag.FlagSet, f *common) run {
	text := textFlag(flags, "account or address")
	return func(ctx context.Context, env command.Env, c *client, _ []string) error {
		all, err := everyOne[api.Lockout](ctx, c, "/lockouts", url.Values{"text": {*text}})
		if err != nil {
			return err
		}
		if *f.json {
			return printJSON(env.Out, all)
		}
		var rows [][]string
		for _, l := range all {
			who := "address " + l.Address
			if l.Account != "" {
				who = l.Account
			}
			if l.Account != "" && !strings.Contains(l.Account, " ") { // else it is an operator or a pass
				who = "account " + l.Account
			}
			if l.Codes {
				who = "codes of " + who
			}
			rows = append(rows, []string{who, at(&l.Expires), fmt.Sprint(l.Failed)})
		}
		table(env.Out, "LOCKED OUT|UNTIL (UTC)|FAILED SIGN-INS", rows)
		return nil
	}
}

func lockoutLift(_ *flag.FlagSet, f *common) run {
	return func(ctx context.Context, env command.Env, c *client, args []string) error {
		if err := c.call(ctx, http.MethodDelete, "/lockouts/"+name(args[0]), nil, nil); err != nil {
			return err
		}
		if *f.json {
			return printJSON(env.Out, map[string]string{"lifted": args[0]})
		}
		fmt.Fprintf(env.Out, "%s may sign in again\n", args[0])
		return nil
	}
}
