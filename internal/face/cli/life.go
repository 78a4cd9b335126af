package cli

import (
	"context"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"net/http"
	"net/url"
	"strings"
	"time"

	"urbankeep/internal/api"
	"urbankeep/internal/face/command"
	"urbankeep/internal/keep"
)

// declareSettings declares a flag for each setting. What is given stands in the map
// as the API takes it; the word inherit takes a setting away.
func declareSettings(flags *flag.FlagSet) map[string]json.RawMessage {
	given := map[string]json.RawMessage{}
	for _, s := range keep.AllSettings {
		flags.Func(s.Flag(), s.Help+"; inherit leaves it to the groups", func(text string) error {
			var tried keep.Settings
			if text == "inherit" {
				given[s.Name] = json.RawMessage("null")
				return nil
			}
			if text == "" {
				return fmt.Errorf("it is empty: say inherit to leave it to the groups")
			}
			if strings.HasPrefix(s.Name, "valid") && strings.ContainsAny(text[:1], "+-nty") { // it counts from now
				if t, err := keep.ParseMoment(text, time.Now()); err == nil {
					text = t.Truncate(time.Second).Format(time.RFC3339)
				}
			}
			var wrong *keep.FieldError
			if err := tried.PutText(s.Name, text); errors.As(err, &wrong) {
				return errors.New(wrong.Say)
			} else if err != nil {
				return err
			}
			raw, err := json.Marshal(text)
			given[s.Name] = raw
			return err
		})
	}
	return given
}

// cardFlags are what an account's card says besides.
type cardFlags struct {
	note, mail, source *string
	mustChange         *bool
	groups             command.List
}

func declareCard(flags *flag.FlagSet) *cardFlags {
	c := &cardFlags{note: flags.String("note", "", "a `note` for operators"), mail: flags.String("mail", "", "e-mail `address` of who uses it, for operators"),
		source:     flags.String("source", "", "the `source` that vouches for it, which has its password then; own keeps that here"),
		mustChange: flags.Bool("must-change", false, "it must change its password at the next sign-in, over SFTP, before anything else")}
	flags.Var(&c.groups, "group", "put it into this `group`, after those it is in; may be given several times")
	return c
}

func rehearseAccount(flags *flag.FlagSet, f *common) run {
	pass := flags.String("pass", "", "as somebody with this `pass` of the account, by its number")
	return func(ctx context.Context, env command.Env, c *client, args []string) error {
		var answer api.Rehearsal
		if err := c.call(ctx, http.MethodPost, "/accounts/"+name(args[0])+"/rehearsal?"+url.Values{"pass": {*pass}}.Encode(), nil, &answer); err != nil {
			return err
		}
		differ := 0
		var rows [][]string
		for _, t := range answer.Tries {
			agrees := "yes"
			if !t.Agrees {
				agrees, differ = "NO", differ+1
			}
			over := t.Listener
			if t.Protocol == keep.Portal || t.Protocol == keep.WebDAV || t.Protocol == keep.ByPass { // a web listener speaks several
				over += " " + string(t.Protocol)
			}
			rows = append(rows, []string{over, t.Does, t.Path, t.Expected, t.Observed, agrees})
		}
		if *f.json {
			if err := printJSON(env.Out, answer); err != nil {
				return err
			}
		} else {
			table(env.Out, "OVER|TRIES TO|PATH|EXPECTED|OBSERVED|AGREE", rows)
		}
		switch {
		case len(answer.Tries) == 0:
			return fmt.Errorf("no listener is running: nothing could be tried")
		case differ > 0:
			return fmt.Errorf("%d of %d tries did not go as they should", differ, len(answer.Tries))
		case !*f.json:
			fmt.Fprintf(env.Out, "All %d tries went as they should.\n", len(answer.Tries))
		}
		return nil
	}
}

func explain(flags *flag.FlagSet, f *common) run {
	when := flags.String("at", "", "the day or `time` (RFC 3339) it is asked for; else now")
	from := flags.String("from", "", "the IP `address` it is asked for")
	pass := flags.String("pass", "", "as somebody with this `pass` of the account, by its number")
	over := flags.String("over", "", "the `protocol` it is asked for, as in sftp")
	return func(ctx context.Context, env command.Env, c *client, args []string) error {
		query := url.Values{"right": {args[1]}, "path": {args[2]}}
		if *from != "" {
			query.Set("from", *from)
		}
		if *pass != "" {
			query.Set("pass", *pass)
		}
		if *over != "" {
			query.Set("over", *over)
		}
		t, err := parseDay("-at", *when, "")
		if err != nil {
			return err
		}
		if t != nil {
			query.Set("at", t.Format(time.RFC3339))
		}
		var answer api.Explanation
		if err := c.call(ctx, http.MethodGet, "/accounts/"+name(args[0])+"/explain?"+query.Encode(), nil, &answer); err != nil {
			return err
		}
		if *f.json {
			err = printJSON(env.Out, answer)
		} else {
			var rows [][]string
			for _, s := range answer.Steps {
				rows = append(rows, []string{s.Name, map[bool]string{true: "yes", false: "NO"}[s.OK], s.Say})
			}
			table(env.Out, "STEP|MAY|WHY", rows)
		}
		if err == nil && !answer.Allowed {
			return fmt.Errorf("%s may not %s %s", args[0], args[1], args[2])
		}
		return err
	}
}
