package cli

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"io"
	"os"
	"strings"

	"filippo.io/age"

	"urbankeep/internal/face/command"
)

const backupHelp = `In it are the records, host keys, certificates, the key of the audit trail and archived records, but not the
stored files of accounts. It is a tar archive packed by gzip; with -passphrase-file or -recipient it is encrypted in
the age format. Both can be opened without this program. FILE is - for standard output.`

func backupCommands() []*command.Command {
	return []*command.Command{clientCommand("backup", "FILE", "Write all that the service knows into one file", backupHelp, backUp)}
}

func backUp(flags *flag.FlagSet, f *common) run {
	passphrase := flags.String("passphrase-file", "", "encrypt it with the passphrase in the first line of this `file`")
	replace := flags.Bool("replace", false, "take the place of a file that is there")
	var recipients command.List
	flags.Var(&recipients, "recipient", "encrypt it for this age `recipient` (age1…); may be given several times")
	return func(ctx context.Context, env command.Env, c *client, args []string) (err error) {
		locks, err := locksOf(*passphrase, recipients)
		if err != nil {
			return err
		}
		out, file := env.Out, (*os.File)(nil)
		if args[0] != "-" {
			if _, err := os.Lstat(args[0]); err == nil && !*replace {
				return fmt.Errorf("%s is there already: give another name, or add -replace", args[0])
			}
			// Under another name until it is whole: a backup that is there can be trusted.
			if file, err = os.OpenFile(args[0]+".part", os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o600); err != nil {
				return fmt.Errorf("write the backup: %w", err)
			}
			defer func() {
				file.Close()
				if err != nil {
					os.Remove(file.Name())
				}
			}()
			out = file
		}
		n := &counted{to: out}
		var sink io.Writer = n
		var seal io.WriteCloser
		if len(locks) > 0 {
			if seal, err = age.Encrypt(n, locks...); err != nil {
				return err
			}
			sink = seal
		}
		if err := c.stream(ctx, "/backup", sink); err != nil {
			return errors.New(strings.ReplaceAll(err.Error(), ": go on with -after and the number of the last record", ""))
		}
		if seal != nil {
			if err := seal.Close(); err != nil {
				return err
			}
		}
		if file == nil {
			return nil
		}
		if err := errors.Join(file.Sync(), file.Close()); err != nil {
			return err
		}
		if err := os.Rename(file.Name(), args[0]); err != nil {
			return err
		}
		if *f.json {
			return printJSON(env.Out, map[string]any{"file": args[0], "bytes": n.bytes, "encrypted": seal != nil})
		}
		_, err = fmt.Fprintf(env.Out, "backup written to %s (%s); urbankeep restore %s -check looks it through\n", args[0], size(n.bytes), args[0])
		return err
	}
}

// counted counts what is written.
type counted struct {
	to    io.Writer
	bytes int64
}

func (c *counted) Write(p []byte) (int, error) {
	n, err := c.to.Write(p)
	c.bytes += int64(n)
	return n, err
}

func locksOf(passphraseFile string, recipients []string) (locks []age.Recipient, err error) {
	if passphraseFile != "" && len(recipients) > 0 {
		return nil, command.Usagef("give a passphrase or recipients, not both: the age format has one or the other")
	}
	if passphraseFile != "" {
		text, err := os.ReadFile(passphraseFile)
		if err != nil {
			return nil, fmt.Errorf("read the passphrase: %w", err)
		}
		line, _, _ := strings.Cut(string(text), "\n")
		one, err := age.NewScryptRecipient(strings.TrimSuffix(line, "\r"))
		if err != nil {
			return nil, fmt.Errorf("the passphrase in %s can't be used: %w", passphraseFile, err)
		}
		return []age.Recipient{one}, nil
	}
	for _, text := range recipients {
		one, err := age.ParseX25519Recipient(text)
		if err != nil {
			return nil, command.Usagef("-recipient %s: %s", text, err)
		}
		locks = append(locks, one)
	}
	return locks, nil
}
