package service

import (
	"context"
	"flag"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"time"

	"filippo.io/age"

	"urbankeep/internal/desk/backup"
	"urbankeep/internal/face/command"
)

// RestoreCommand is "restore".
func RestoreCommand() *command.Command {
	return &command.Command{Name: "restore", Args: "FILE", Short: "Bring a backup back into an unused data folder",
		Long: "The backup is checked from end to end first: every file against its manifest, the records, the audit trail.\nNothing is touched before. FILE is - for standard input. The stored files of accounts are not in a backup:\na store that lay in the data folder is looked for in the new one, others where they were, or where -store says.",
		Flags: func(flags *flag.FlagSet) func(context.Context, command.Env, []string) error {
			p := backup.Plan{Stores: map[string]string{}}
			dir := command.DataFlag(flags)
			flags.BoolVar(&p.Replace, "replace", false, "move the data folder that is there aside, into before-TIME in it; its stores stay")
			flags.BoolVar(&p.DryRun, "check", false, "check the backup only")
			passphrase := flags.String("passphrase-file", "", "`file` with the passphrase in its first line")
			identity := flags.String("identity", "", "`file` with the age identity that opens it")
			flags.Func("store", "`NAME=FOLDER`: where a store lies now; may be given several times", func(text string) error {
				name, folder, ok := strings.Cut(text, "=")
				if !ok || name == "" || folder == "" {
					return fmt.Errorf("use NAME=FOLDER")
				}
				p.Stores[name] = folder
				return nil
			})
			return func(ctx context.Context, env command.Env, args []string) error {
				p.Dir, p.Unlock = *dir, func() ([]age.Identity, error) { return identities(*passphrase, *identity) }
				in := env.In
				if args[0] != "-" {
					file, err := os.Open(args[0])
					if err != nil {
						return fmt.Errorf("open the backup: %w", err)
					}
					defer file.Close()
					in = file
				}
				done, err := backup.Restore(ctx, in, p)
				if err != nil {
					return err
				}
				sayRestored(env.Out, &done, p.DryRun, p.Dir)
				return nil
			}
		}}
}

func sayRestored(w io.Writer, done *backup.Restored, dry bool, dir string) {
	fmt.Fprintf(w, "backup of %s, made on %s: %d files as they were written, %d audit records verified, %d accounts\n",
		done.Folder, done.Made.Format(time.RFC3339), len(done.Files), done.Records, done.Accounts)
	if dry {
		fmt.Fprintln(w, "it can be restored; nothing was changed")
		return
	}
	if done.Aside != "" {
		fmt.Fprintf(w, "what was there before is in %s\n", done.Aside)
	}
	for _, s := range done.Stores {
		if !s.Local() {
			fmt.Fprintf(w, "store %s: %s is looked for when the service runs (store check %s)\n", s.Name, s.Where(), s.Name)
			continue
		}
		state := "is there"
		if below, err := filepath.Rel(done.Folder, s.Folder); err != nil || !filepath.IsLocal(below) {
			if inside, err := filepath.Rel(filepath.Clean(dir), s.Folder); err != nil || !filepath.IsLocal(inside) {
				state = "is there: if the service of which the backup was made still uses it, never run both on it (restore with -store " + s.Name + "=FOLDER)"
			}
		}
		if _, err := os.Stat(s.Folder); err != nil {
			state = "is not there: bring its files back, or restore with -store " + s.Name + "=FOLDER, or begin with an empty one (store mark " + s.Name + ", once the service runs)"
		}
		fmt.Fprintf(w, "store %s: %s %s\n", s.Name, s.Folder, state)
	}
	fmt.Fprintf(w, "restored; start it with urbankeep serve -data %s, then urbankeep checkup\n", filepath.Clean(dir))
}

// identities are what opens an encrypted backup.
func identities(passphraseFile, identityFile string) ([]age.Identity, error) {
	switch {
	case identityFile != "":
		file, err := os.Open(identityFile)
		if err != nil {
			return nil, fmt.Errorf("open the identity: %w", err)
		}
		defer file.Close()
		return age.ParseIdentities(file)
	case passphraseFile != "":
		text, err := os.ReadFile(passphraseFile)
		if err != nil {
			return nil, fmt.Errorf("read the passphrase: %w", err)
		}
		line, _, _ := strings.Cut(string(text), "\n")
		one, err := age.NewScryptIdentity(strings.TrimSuffix(line, "\r"))
		return []age.Identity{one}, err
	}
	return nil, command.Usagef("the backup is encrypted: give -passphrase-file or -identity")
}
