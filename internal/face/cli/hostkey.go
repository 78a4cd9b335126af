package cli

import (
	"context"
	"flag"
	"fmt"
	"net/http"
	"os"

	"urbankeep/internal/api"
	"urbankeep/internal/face/command"
)

const hostKeyHelp = `A new host key is announced first: clients that support it learn the key at their next visit. Put it in use once they had the time;
the key of the same type that was in use is retired then. Sessions go on.`

func hostKeyCommands() []*command.Command {
	return []*command.Command{
		clientCommand("hostkey list", "", "List the keys by which SSH clients know the service, with their DNS records", "", hostKeyList),
		clientCommand("hostkey make", "TYPE", "Make a host key and announce it: ed25519, ecdsa or rsa", hostKeyHelp, hostKeyMake),
		clientCommand("hostkey import", "FILE", "Take a host key that was made elsewhere and announce it", "FILE holds the private key as PEM. "+hostKeyHelp, hostKeyImport),
		clientCommand("hostkey use", "KEY", "Put a host key in use for new connections", "KEY is the key's id or its fingerprint. "+hostKeyHelp, hostKeyUse),
		clientCommand("hostkey remove", "KEY", "Delete a host key", "KEY is the key's id or its fingerprint.", hostKeyRemove),
	}
}

func hostKeysOf(ctx context.Context, c *client) ([]api.HostKey, error) {
	var page api.Page[api.HostKey]
	err := c.call(ctx, http.MethodGet, "/host-keys", nil, &page)
	return page.Items, err
}

func hostKeyList(_ *flag.FlagSet, f *common) run {
	return func(ctx context.Context, env command.Env, c *client, _ []string) error {
		keys, err := hostKeysOf(ctx, c)
		if err != nil {
			return err
		}
		if *f.json {
			return printJSON(env.Out, keys)
		}
		var rows [][]string
		for _, k := range keys {
			rows = append(rows, []string{k.ID, k.State, k.Type, fmt.Sprint(k.Bits), k.Fingerprint})
		}
		table(env.Out, "HOST KEY|STATE|TYPE|BITS#3|FINGERPRINT", rows)
		fmt.Fprintln(env.Out, "\nDNS records (put the host's name before each):")
		for _, k := range keys {
			if k.State != "retired" {
				fmt.Fprintln(env.Out, "IN SSHFP "+k.SSHFP)
			}
		}
		return nil
	}
}

func sayHostKey(env command.Env, f *common, k api.HostKey, what string) error {
	if *f.json {
		return printJSON(env.Out, k)
	}
	fmt.Fprintf(env.Out, "host key %s %s: %s %s\n", k.ID, what, k.Type, k.Fingerprint)
	return nil
}

func hostKeyMake(_ *flag.FlagSet, f *common) run {
	return func(ctx context.Context, env command.Env, c *client, args []string) error {
		var k api.HostKey
		if err := c.call(ctx, http.MethodPost, "/host-keys", api.HostKeyNew{Type: args[0]}, &k); err != nil {
			return err
		}
		return sayHostKey(env, f, k, "made and announced")
	}
}

func hostKeyImport(flags *flag.FlagSet, f *common) run {
	locked := flags.Bool("passphrase", false, "the key is encrypted: its passphrase is asked for on a terminal, else the first line of standard input")
	return func(ctx context.Context, env command.Env, c *client, args []string) error {
		text, err := os.ReadFile(args[0])
		if err != nil {
			return fmt.Errorf("read the host key: %w", err)
		}
		ask := api.HostKeyNew{Private: string(text)}
		if *locked {
			if ask.Passphrase, err = askOnce(env, "passphrase of "+args[0]); err != nil {
				return err
			}
		}
		var k api.HostKey
		if err := c.call(ctx, http.MethodPost, "/host-keys", ask, &k); err != nil {
			return err
		}
		return sayHostKey(env, f, k, "imported and announced")
	}
}

func findHostKey(ctx context.Context, c *client, key string) (api.HostKey, error) {
	keys, err := hostKeysOf(ctx, c)
	if err != nil {
		return api.HostKey{}, err
	}
	for _, k := range keys {
		if k.ID == key || k.Fingerprint == key {
			return k, nil
		}
	}
	return api.HostKey{}, fmt.Errorf("no host key %s: hostkey list shows the ones there are", key)
}

func hostKeyUse(_ *flag.FlagSet, f *common) run {
	return func(ctx context.Context, env command.Env, c *client, args []string) error {
		k, err := findHostKey(ctx, c, args[0])
		if err != nil {
			return err
		}
		if err := c.call(ctx, http.MethodPost, "/host-keys/"+k.ID+"/use", nil, &k); err != nil {
			return err
		}
		return sayHostKey(env, f, k, "is in use for new connections")
	}
}

func hostKeyRemove(flags *flag.FlagSet, f *common) run {
	meant := flags.Bool("meant", false, "delete it although it is in use, without asking")
	return func(ctx context.Context, env command.Env, c *client, args []string) error {
		k, err := findHostKey(ctx, c, args[0])
		if err != nil {
			return err
		}
		if k.State == "in-use" && !*meant {
			if err := confirm(env, "Clients know the service by this key: those that know no other will warn, or refuse to connect.", "say -meant, or put another in use first (hostkey use)"); err != nil {
				return err
			}
		}
		if err := c.call(ctx, http.MethodDelete, "/host-keys/"+k.ID, nil, nil); err != nil {
			return err
		}
		return sayHostKey(env, f, k, "removed")
	}
}
