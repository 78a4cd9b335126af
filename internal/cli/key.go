package cli

import (
	"context"
	"flag"
	"fmt"
	"io"
	"net/http"
	"os"

	"urbankeep/internal/command"
	"urbankeep/internal/web/api"
)

func keyCommands() []*command.Command {
	return []*command.Command{
		clientCommand("key add", "ACCOUNT FILE", "Give an account an SSH public key", "FILE holds one public key: its one line, RFC 4716 or PEM; - is standard input. A private key is refused.", keyAdd),
		clientCommand("key list", "ACCOUNT", "List the SSH public keys of an account", "", keyList),
		clientCommand("hostkey list", "", "List the keys by which SSH clients know the service, with their DNS records", "", hostKeyList),
		clientCommand("key remove", "ACCOUNT KEY", "Take a key from an account", "KEY is the key's number or its fingerprint.", keyRemove),
	}
}

func hostKeyList(_ *flag.FlagSet, f *common) run {
	return func(ctx context.Context, env command.Env, c *client, _ []string) error {
		var page api.Page[api.HostKey]
		if err := c.call(ctx, http.MethodGet, "/host-keys", nil, &page); err != nil {
			return err
		}
		if *f.json {
			return printJSON(env.Out, page.Items)
		}
		var rows [][]string
		for _, k := range page.Items {
			rows = append(rows, []string{k.Type, k.Fingerprint, "IN SSHFP " + k.SSHFP})
		}
		table(env.Out, "TYPE|FINGERPRINT|DNS RECORD", rows)
		return nil
	}
}

// maxKeyFile bounds what is read as a key, bytes.
const maxKeyFile = 1 << 20

func keyAdd(flags *flag.FlagSet, f *common) run {
	label := flags.String("label", "", "a `label`; else the comment in the key")
	shared := flags.Bool("shared", false, "another account may have the same key")
	return func(ctx context.Context, env command.Env, c *client, args []string) error {
		in := env.In
		if args[1] != "-" {
			file, err := os.Open(args[1])
			if err != nil {
				return fmt.Errorf("read the key: %w", err)
			}
			defer file.Close()
			in = file
		}
		text, err := io.ReadAll(io.LimitReader(in, maxKeyFile))
		if err != nil {
			return fmt.Errorf("read the key: %w", err)
		}
		var k api.Key
		if err := c.call(ctx, http.MethodPost, "/accounts/"+name(args[0])+"/keys", api.KeyNew{Key: string(text), Label: *label, Shared: *shared}, &k); err != nil {
			return err
		}
		if *f.json {
			return printJSON(env.Out, k)
		}
		fmt.Fprintf(env.Out, "key %d added to %s: %s %s\n", k.ID, args[0], k.Type, k.Fingerprint)
		return nil
	}
}

func keysOf(ctx context.Context, c *client, account string) ([]api.Key, error) {
	var page api.Page[api.Key]
	err := c.call(ctx, http.MethodGet, "/accounts/"+name(account)+"/keys", nil, &page)
	return page.Items, err
}

func keyList(_ *flag.FlagSet, f *common) run {
	return func(ctx context.Context, env command.Env, c *client, args []string) error {
		keys, err := keysOf(ctx, c, args[0])
		if err != nil {
			return err
		}
		if *f.json {
			return printJSON(env.Out, keys)
		}
		var rows [][]string
		for _, k := range keys {
			rows = append(rows, []string{fmt.Sprint(k.ID), k.Type, fmt.Sprint(k.Bits), k.Fingerprint, dash(k.Label), at(&k.Added), at(k.LastUsed)})
		}
		table(env.Out, "KEY|TYPE|BITS|FINGERPRINT|LABEL|ADDED|LAST USED", rows)
		return nil
	}
}

func keyRemove(_ *flag.FlagSet, f *common) run {
	return func(ctx context.Context, env command.Env, c *client, args []string) error {
		keys, err := keysOf(ctx, c, args[0])
		if err != nil {
			return err
		}
		for _, k := range keys {
			if fmt.Sprint(k.ID) != args[1] && k.Fingerprint != args[1] {
				continue
			}
			if err := c.call(ctx, http.MethodDelete, fmt.Sprintf("/accounts/%s/keys/%d", name(args[0]), k.ID), nil, nil); err != nil {
				return err
			}
			if *f.json {
				return printJSON(env.Out, map[string]any{"removed": k})
			}
			fmt.Fprintf(env.Out, "key %s removed from %s\n", k.Fingerprint, args[0])
			return nil
		}
		return fmt.Errorf("%s has no key %s: key list %s shows the ones it has", args[0], args[1], args[0])
	}
}
