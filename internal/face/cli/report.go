package cli

import (
	"context"
	"flag"
	"fmt"
	"net/http"
	"net/url"
	"strings"

	"urbankeep/internal/api"
	"urbankeep/internal/face/command"
)

func reportCommands() []*command.Command {
	return []*command.Command{
		clientCommand("report list", "", "List the reports that auditors ask for", "", reportList),
		clientCommand("report", "[NAME] [ABOUT]", "Make a report; without a name, list them",
			"Some are about an ACCOUNT, some about a file or folder of a store, STORE:PATH; report list says which.", reportMake),
	}
}

func reportList(_ *flag.FlagSet, f *common) run {
	return func(ctx context.Context, env command.Env, c *client, _ []string) error {
		var page api.Page[api.ReportKnown]
		if err := c.call(ctx, http.MethodGet, "/reports", nil, &page); err != nil {
			return err
		}
		if *f.json {
			return printJSON(env.Out, page.Items)
		}
		var rows [][]string
		for _, r := range page.Items {
			rows = append(rows, []string{r.Name, map[string]string{"account": "ACCOUNT", "place": "STORE:PATH", "": "-"}[r.About], r.Title})
		}
		table(env.Out, "REPORT|ABOUT|TELLS", rows)
		return nil
	}
}

func reportMake(flags *flag.FlagSet, f *common) run {
	days := flags.Int("days", 30, "how many `days` back it looks")
	asCSV := flags.Bool("csv", false, "print CSV")
	list := reportList(flags, f)
	return func(ctx context.Context, env command.Env, c *client, args []string) error {
		if len(args) == 0 {
			return list(ctx, env, c, nil)
		}
		query := url.Values{"days": {fmt.Sprint(*days)}}
		if len(args) > 1 {
			query.Set("about", args[1])
		}
		if *asCSV {
			query.Set("format", "csv")
			return c.stream(ctx, "/reports/"+name(args[0])+"?"+query.Encode(), env.Out)
		}
		var r api.Report
		if err := c.call(ctx, http.MethodGet, "/reports/"+name(args[0])+"?"+query.Encode(), nil, &r); err != nil {
			return err
		}
		if *f.json {
			return printJSON(env.Out, r)
		}
		since := ""
		if r.Since != nil {
			since = ", since " + at(r.Since) + " " + zoneName()
		}
		fmt.Fprintf(env.Out, "%s%s\n\n", safe(r.Title), since)
		for _, row := range r.Rows {
			for i := range row {
				row[i] = dash(row[i])
			}
		}
		table(env.Out, strings.ToUpper(strings.Join(r.Columns, "|")), r.Rows)
		if r.Cut {
			fmt.Fprintln(env.Out, "There is more than is shown here: ask for fewer days.")
		}
		return nil
	}
}
