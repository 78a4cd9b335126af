package cli

import (
	"context"
	"flag"
	"fmt"
	"io"
	"net/http"
	"os"
	"strings"

	"urbankeep/internal/api"
	"urbankeep/internal/face/command"
	"urbankeep/internal/keep"
)

func accountClone(flags *flag.FlagSet, f *common) run {
	generate := flags.Bool("generate", false, "set a generated password and print it, once")
	return func(ctx context.Context, env command.Env, c *client, args []string) error {
		var made api.AccountMade
		if err := c.call(ctx, http.MethodPost, "/accounts/"+name(args[0])+"/clone", api.AccountClone{Name: args[1], Generate: *generate}, &made); err != nil {
			return err
		}
		return showMade(env, f, made, "added, like "+args[0])
	}
}

// summary counts what the lines of an import do.
func summary(lines []api.RosterLine) string {
	does := map[string]int{}
	for _, l := range lines {
		does[l.Does]++
	}
	return fmt.Sprintf("%s: %d added, %d changed, %d as they were.", keep.SayMany(len(lines), "account"), does["add"], does["change"], does["nothing"])
}

func accountExport(_ *flag.FlagSet, _ *common) run {
	return func(ctx context.Context, env command.Env, c *client, _ []string) error {
		text, err := c.raw(ctx, http.MethodGet, "/account-roster", nil)
		if err == nil {
			_, err = env.Out.Write(text)
		}
		return err
	}
}

func accountImport(flags *flag.FlagSet, f *common) run {
	dry := flags.Bool("dry-run", false, "print what would change, and change nothing")
	system := flags.String("system", "", "take over the users of this `group` of the machine, with their passwords where they can be read")
	files := flags.String("system-files", "/etc", "the `folder` in which passwd, group and shadow lie")
	into := flags.String("group", "", "with -system: the `group` of the service that they come into")
	return func(ctx context.Context, env command.Env, c *client, args []string) error {
		if (len(args) == 1) == (*system != "") {
			return command.Usagef("it takes a file, or -system and a group of the machine")
		}
		var text string
		var err error
		if *system != "" {
			var left []string
			text, left, err = systemRoster(*files, *system, *into)
			for _, one := range left {
				fmt.Fprintln(env.Err, "left out:", one)
			}
		} else {
			text, err = readInput(env, args[0])
		}
		if err != nil {
			return err
		}
		var page api.Page[api.RosterLine]
		if err := c.call(ctx, http.MethodPost, "/account-roster", api.Roster{CSV: text, Dry: *dry}, &page); err != nil {
			return err
		}
		refused := 0
		var rows [][]string
		for _, l := range page.Items {
			why := strings.Join(l.Changes, "; ")
			if l.Does == "refused" {
				refused++
				why = l.Say
			}
			if l.Password != "" {
				why += " (password, shown this once: " + l.Password + ")"
			}
			rows = append(rows, []string{fmt.Sprint(l.Line), l.Account, l.Does, dash(why)})
		}
		if *f.json {
			err = printJSON(env.Out, page.Items)
		} else {
			table(env.Out, "LINE|ACCOUNT|DOES|WHAT", rows)
		}
		switch {
		case err != nil:
			return err
		case refused > 0:
			return fmt.Errorf("%d of %s refused, so nothing was changed: mend them and try again", refused, keep.SayMany(len(page.Items), "line"))
		case !*f.json:
			fmt.Fprintln(env.Out, summary(page.Items))
			if *dry {
				fmt.Fprintln(env.Out, "Nothing was changed: this was a dry run.")
			}
		}
		return nil
	}
}

// readInput reads a file; - is standard input.
func readInput(env command.Env, file string) (string, error) {
	if file == "-" {
		text, err := io.ReadAll(env.In)
		return string(text), err
	}
	text, err := os.ReadFile(file)
	return string(text), err
}
