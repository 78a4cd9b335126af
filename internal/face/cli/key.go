package cli

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"io"
	"net/http"
	"os"
	"strings"
	"time"

	"urbankeep/internal/api"
	"urbankeep/internal/face/command"
	"urbankeep/internal/keep"
	"urbankeep/internal/keys/pubkey"
)

const keyHelp = `FILE holds public keys: their one line, with or without from=, expiry-time= and cert-authority before it, or RFC 4716, or PEM;
- is standard input. A private key is refused before it leaves this machine.`

func keyCommands() []*command.Command {
	return []*command.Command{
		clientCommand("key add", "ACCOUNT FILE", "Give an account SSH public keys", keyHelp, keyAdd),
		clientCommand("key list", "ACCOUNT", "List the SSH public keys of an account", "", keyList),
		clientCommand("key make", "ACCOUNT", "Make a key pair for an account that can't make its own",
			"The private half is written to a new file of yours and kept nowhere else: hand it over and delete it.", keyMake),
		clientCommand("key set", "ACCOUNT KEY", "Change a key's label, or where and until when it may be used", "KEY is the key's number or its fingerprint.", keySet),
		clientCommand("key remove", "ACCOUNT KEY", "Take a key from an account and end the sessions it signed in", "KEY is the key's number or its fingerprint.", keyRemove),
		clientCommand("key test", "FILE", "Say what public keys are in a file and which accounts they would open", keyHelp, keyTest),
	}
}

// readKeys reads a file of public keys; - is standard input.
func readKeys(env command.Env, file string) (string, error) {
	in := env.In
	if file != "-" {
		opened, err := os.Open(file)
		if err != nil {
			return "", fmt.Errorf("read the key: %w", err)
		}
		defer opened.Close()
		in = opened
	}
	text, err := io.ReadAll(io.LimitReader(in, pubkey.MaxText+1))
	if err != nil {
		return "", fmt.Errorf("read the key: %w", err)
	}
	if pubkey.IsPrivate(string(text)) {
		return "", pubkey.ErrPrivate
	}
	return string(text), nil
}

// keyRules are the flags about where and until when a key may be used.
type keyRules struct{ label, expires, from *string }

func declareKeyRules(flags *flag.FlagSet) keyRules {
	return keyRules{flags.String("label", "", "a `label`; else the comment in the key"),
		flags.String("expires", "", "the `day` (its first moment in UTC) or time at which it stops working, as in 2027-03-01, 2027-03-01T18:00 or +90d"),
		flags.String("from", "", "`networks` it may be used from, as in 192.0.2.0/24,2001:db8::7; or everybody")}
}

// parseDay reads a day or a time; "" is nil, and the word for none the zero time.
func parseDay(flag, text, none string) (*time.Time, error) {
	if text == "" {
		return nil, nil
	}
	if text == none {
		return &time.Time{}, nil
	}
	t, err := keep.ParseMoment(text, time.Now())
	if err != nil {
		return nil, command.Usagef("%s %s", flag, err)
	}
	return &t, nil
}

// networks are those of -from.
func (k keyRules) networks() (list []string, err error) {
	into := &list
	err = setNetworks(&into, "from", *k.from, keep.ParseAllowed)
	return *into, err
}

func keyAdd(flags *flag.FlagSet, f *common) run {
	rules := declareKeyRules(flags)
	shared := flags.Bool("shared", false, "another account may have the same key")
	authority := flags.Bool("authority", false, "it is the key of an authority: user certificates that it signed for the account's name are taken")
	return func(ctx context.Context, env command.Env, c *client, args []string) error {
		expires, err := parseDay("-expires", *rules.expires, "never")
		if err != nil {
			return err
		}
		text, err := readKeys(env, args[1])
		if err != nil {
			return err
		}
		var added api.Page[api.Key]
		networks, err := rules.networks()
		if err != nil {
			return err
		}
		ask := api.KeyNew{Key: text, Label: *rules.label, Shared: *shared, Authority: *authority, Expires: expires, Networks: networks}
		if err := c.call(ctx, http.MethodPost, "/accounts/"+name(args[0])+"/keys", ask, &added); err != nil {
			return err
		}
		if *f.json {
			return printJSON(env.Out, added.Items)
		}
		for _, k := range added.Items {
			fmt.Fprintf(env.Out, "key %d added to %s: %s %s%s\n", k.ID, args[0], k.Type, k.Fingerprint, keyNotes(k))
		}
		return nil
	}
}

// keyNotes are what is special about a key, each behind a comma.
func keyNotes(k api.Key) string {
	notes := ""
	if k.Shelf != "" {
		notes += ", from the shelf"
	}
	if k.Authority {
		notes += ", authority"
	}
	if k.Expires != nil {
		notes += ", until " + at(k.Expires) + " " + zoneName()
		if k.Expires.Before(time.Now()) {
			notes += " (expired)"
		}
	}
	if len(k.Networks) > 0 {
		notes += ", from " + strings.Join(k.Networks, " ") + " only"
	}
	if len(k.SharedWith) > 0 {
		notes += ", shared with " + strings.Join(k.SharedWith, " ")
	}
	return notes
}

func keysOf(ctx context.Context, c *client, account string) ([]api.Key, error) {
	var page api.Page[api.Key]
	err := c.call(ctx, http.MethodGet, "/accounts/"+name(account)+"/keys", nil, &page)
	return page.Items, err
}

// strength shows a key's size and what it is worth.
func strength(bits int, word string) string { return fmt.Sprintf("%d bits, %s", bits, word) }

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
			rows = append(rows, []string{fmt.Sprint(k.ID), k.Type, strength(k.Bits, k.Strength), k.Fingerprint, dash(k.Label), at(k.LastUsed),
				dash(strings.TrimPrefix(keyNotes(k), ", "))})
		}
		table(env.Out, "KEY|TYPE|STRENGTH#6|FINGERPRINT|LABEL#4|LAST USED#5|RULES#3", rows)
		return nil
	}
}

// findKey finds a key of an account by number or fingerprint.
func findKey(ctx context.Context, c *client, account, key string) (api.Key, error) {
	keys, err := keysOf(ctx, c, account)
	if err != nil {
		return api.Key{}, err
	}
	for _, k := range keys {
		if fmt.Sprint(k.ID) == key || k.Fingerprint == key {
			return k, nil
		}
	}
	return api.Key{}, fmt.Errorf("%s has no key %s: key list %s shows the ones it has", account, key, account)
}

func keySet(flags *flag.FlagSet, f *common) run {
	rules := declareKeyRules(flags)
	return func(ctx context.Context, env command.Env, c *client, args []string) error {
		ask := api.KeyChange{}
		var err error
		flags.Visit(func(given *flag.Flag) {
			switch given.Name {
			case "label":
				ask.Label = rules.label
			case "from":
				err = setNetworks(&ask.Networks, "from", *rules.from, keep.ParseAllowed)
			}
		})
		if err != nil {
			return err
		}
		if ask.Expires, err = parseDay("-expires", *rules.expires, "never"); err != nil {
			return err
		}
		if ask == (api.KeyChange{}) {
			return command.Usagef("say what to change: -label, -expires (never takes it away) or -from (everybody takes it away)")
		}
		k, err := findKey(ctx, c, args[0], args[1])
		if err != nil {
			return err
		}
		if err := c.call(ctx, http.MethodPatch, fmt.Sprintf("/accounts/%s/keys/%d", name(args[0]), k.ID), ask, &k); err != nil {
			return err
		}
		if *f.json {
			return printJSON(env.Out, k)
		}
		fmt.Fprintf(env.Out, "key %d of %s %s: %s %s%s\n", k.ID, args[0], c.now("changed"), k.Type, k.Fingerprint, keyNotes(k))
		return nil
	}
}

func keyRemove(_ *flag.FlagSet, f *common) run {
	return func(ctx context.Context, env command.Env, c *client, args []string) error {
		k, err := findKey(ctx, c, args[0], args[1])
		if err != nil {
			return err
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
}

func keyMake(flags *flag.FlagSet, f *common) run {
	rules := declareKeyRules(flags)
	kind := flags.String("type", "ed25519", "`kind` of key: ed25519, ecdsa or rsa")
	locked := flags.Bool("passphrase", false, "encrypt the private half: asked for on a terminal, else the first line of standard input")
	out := flags.String("out", "", "new `file` for the private half; else ACCOUNT.key in this folder")
	return func(ctx context.Context, env command.Env, c *client, args []string) (err error) {
		networks, err := rules.networks()
		if err != nil {
			return err
		}
		ask := api.KeyPairNew{Type: *kind, Label: *rules.label, Networks: networks}
		if ask.Expires, err = parseDay("-expires", *rules.expires, "never"); err != nil {
			return err
		}
		if *locked {
			if ask.Passphrase, err = askPassword(env, "the private key"); err != nil {
				return err
			}
		}
		path := *out
		if path == "" {
			path = args[0] + ".key"
		}
		// The file first: a key that can't be written down would be lost.
		file, err := os.OpenFile(path, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
		if err != nil {
			return fmt.Errorf("make the file for the private half: %w: choose another with -out", err)
		}
		var pair api.KeyPair
		if err := c.call(ctx, http.MethodPost, "/accounts/"+name(args[0])+"/key-pairs", ask, &pair); err != nil {
			return errors.Join(err, file.Close(), os.Remove(path))
		}
		_, err = io.WriteString(file, pair.Private)
		if err = errors.Join(err, file.Close()); err != nil {
			return fmt.Errorf("write the private half: %w: remove key %d of %s and make another", err, pair.Key.ID, args[0])
		}
		if *f.json {
			return printJSON(env.Out, map[string]any{"key": pair.Key, "file": path})
		}
		fmt.Fprintf(env.Out, "key %d added to %s: %s %s%s\n", pair.Key.ID, args[0], pair.Key.Type, pair.Key.Fingerprint, keyNotes(pair.Key))
		fmt.Fprintf(env.Out, "The private half is in %s and nowhere else. Hand it over by a safe way, then delete the file.\n", path)
		return nil
	}
}

func keyTest(_ *flag.FlagSet, f *common) run {
	return func(ctx context.Context, env command.Env, c *client, args []string) error {
		text, err := readKeys(env, args[0])
		if err != nil {
			return err
		}
		var page api.Page[api.KeyTest]
		if err := c.call(ctx, http.MethodPost, "/key-tests", api.KeyText{Key: text}, &page); err != nil {
			return err
		}
		if *f.json {
			return printJSON(env.Out, page.Items)
		}
		for _, t := range page.Items {
			if t.Problem != "" {
				fmt.Fprintf(env.Out, "line %d: can't be used: %s\n", t.Line, t.Problem)
				continue
			}
			notes := keyNotes(api.Key{Authority: t.Authority, Expires: t.Expires, Networks: t.Networks})
			fmt.Fprintf(env.Out, "line %d: %s, %s, %s\n", t.Line, t.Type, strength(t.Bits, t.Strength), t.Fingerprint)
			fmt.Fprintf(env.Out, "  label %s%s\n", safe(dash(t.Label)), notes)
			opens := "opens no account yet"
			if len(t.Accounts) > 0 {
				opens = "opens " + strings.Join(t.Accounts, ", ")
			}
			fmt.Fprintf(env.Out, "  %s\n", opens)
		}
		return nil
	}
}
