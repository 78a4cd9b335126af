package cli

import (
	"context"
	"flag"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strings"

	"urbankeep/internal/api"
	"urbankeep/internal/face/command"
)

func certificateCommands() []*command.Command {
	return []*command.Command{
		clientCommand("certificate show", "", "Show the TLS certificate that FTP clients are shown", "", certificateShow),
		clientCommand("certificate follow", "CERTIFICATE KEY", "Use a certificate and key in files, and whatever they become",
			"Both are PEM files on the service's machine that it can read; they are read again when they change, so that a program that renews\nthem needs to do nothing else. Sessions go on.", certificateFollow),
		clientCommand("certificate import", "CERTIFICATE KEY", "Copy a certificate and its key in, and use them", "Both are PEM files.", certificateImport),
		clientCommand("certificate renew", "", "Make a new self-signed certificate and use it", "", certificateRenew),
		clientCommand("lockout list", "", "List the addresses and accounts that are locked out after failed sign-ins", "", lockoutList),
		clientCommand("lockout lift", "WHO", "End the lockout of an address or account", "", lockoutLift),
	}
}

func showCertificate(env command.Env, f *common, s api.Certificate) error {
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
	table(env.Out, "CERTIFICATE|"+strings.Join(s.Names, " "), [][]string{{"signed by", signed}, {"chain", fmt.Sprint(s.Chain)}, {"valid", at(&s.Starts) + " to " + at(&s.Expires) + " " + zoneName()},
		{"SHA-256", s.Fingerprint}, {"read from", from}, {"key from", s.KeyFile}})
	if s.Problem != "" {
		fmt.Fprintf(env.Out, "\nThe files have changed and can't be used, so the certificate before it is shown: %s\n", s.Problem)
	}
	return nil
}

func certificateShow(_ *flag.FlagSet, f *common) run {
	return func(ctx context.Context, env command.Env, c *client, _ []string) error {
		var s api.Certificate
		if err := c.call(ctx, http.MethodGet, "/certificate", nil, &s); err != nil {
			return err
		}
		return showCertificate(env, f, s)
	}
}

func changeCertificate(ctx context.Context, env command.Env, c *client, f *common, ask api.CertificateChange) error {
	var s api.Certificate
	if err := c.call(ctx, http.MethodPut, "/certificate", ask, &s); err != nil {
		return err
	}
	return showCertificate(env, f, s)
}

func certificateFollow(_ *flag.FlagSet, f *common) run {
	return func(ctx context.Context, env command.Env, c *client, args []string) error {
		files := make([]string, 2)
		for i := range files {
			var err error
			if files[i], err = filepath.Abs(args[i]); err != nil {
				return err
			}
		}
		return changeCertificate(ctx, env, c, f, api.CertificateChange{CertificateFile: files[0], KeyFile: files[1]})
	}
}

func certificateImport(_ *flag.FlagSet, f *common) run {
	return func(ctx context.Context, env command.Env, c *client, args []string) error {
		text, err := os.ReadFile(args[0])
		if err != nil {
			return fmt.Errorf("read the certificate: %w", err)
		}
		key, err := os.ReadFile(args[1])
		if err != nil {
			return fmt.Errorf("read the key: %w", err)
		}
		return changeCertificate(ctx, env, c, f, api.CertificateChange{Certificate: string(text), Key: string(key)})
	}
}

func certificateRenew(_ *flag.FlagSet, f *common) run {
	return func(ctx context.Context, env command.Env, c *client, _ []string) error {
		return changeCertificate(ctx, env, c, f, api.CertificateChange{SelfSigned: true})
	}
}

func lockoutList(_ *flag.FlagSet, f *common) run {
	return func(ctx context.Context, env command.Env, c *client, _ []string) error {
		var page api.Page[api.Lockout]
		if err := c.call(ctx, http.MethodGet, "/lockouts", nil, &page); err != nil {
			return err
		}
		if *f.json {
			return printJSON(env.Out, page.Items)
		}
		var rows [][]string
		for _, l := range page.Items {
			who := "address " + l.Address
			if l.Account != "" {
				who = "account " + l.Account
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
