package cli

import (
	"context"
	"flag"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"time"

	"urbankeep/internal/api"
	"urbankeep/internal/face/command"
	"urbankeep/internal/keep"
)

// barWidth is how wide the longest bar is, characters.
const barWidth = 24

func trafficShow(flags *flag.FlagSet, f *common) run {
	query := queryFlags(flags, "account", "group", "address", "protocol", "action", "mount", "path", "since", "until")
	by := flags.String("by", "day", "`what`: hour, day, second; account, group, address, protocol, action, mount, file")
	asCSV := flags.Bool("csv", false, "print CSV")
	most := flags.Int("most", 40, "how `many` lines at the most")
	return func(ctx context.Context, env command.Env, c *client, _ []string) error {
		if *by == "second" {
			return beats(ctx, env, c, *f.json, *most)
		}
		asked := query()
		asked.Set("zone", zoneName())
		if *by == "hour" || *by == "day" {
			asked.Set("step", *by)
		} else {
			asked.Set("by", *by)
		}
		if *asCSV {
			asked.Set("format", "csv")
			return c.stream(ctx, "/traffic?"+asked.Encode(), env.Out)
		}
		var t api.Traffic
		if err := c.call(ctx, http.MethodGet, "/traffic?"+asked.Encode(), nil, &t); err != nil {
			return err
		}
		if *f.json {
			return printJSON(env.Out, t)
		}
		fmt.Fprintf(env.Out, "%s to %s %s: in %s, out %s, %s, %d refused, %d failed\n\n", t.Since.Format(minuteForm), t.Until.Format(minuteForm), t.Zone,
			size(t.Total.Up), size(t.Total.Down), keep.SayMany(t.Total.Operations, "operation"), t.Total.Refused, t.Total.Failed)
		if t.By == "" {
			showPoints(env, &t, *most)
		} else {
			showRows(env, &t, *most)
		}
		if t.Cut {
			fmt.Fprintln(env.Out, "There is more than is shown here: ask for a shorter time.")
		}
		return nil
	}
}

const minuteForm = "2006-01-02 15:04"

// bar shows a number beside the greatest.
func bar(n, greatest int64) string {
	if n == 0 || greatest == 0 {
		return ""
	}
	return strings.Repeat("▇", max(1, int(float64(n)/float64(greatest)*barWidth+0.5)))
}

func amounts(a *api.Amount) []string {
	return []string{size(a.Up), size(a.Down), fmt.Sprint(a.Operations), fmt.Sprint(a.Refused), fmt.Sprint(a.Failed)}
}

const amountHead = "|IN|OUT|OPERATIONS|REFUSED|FAILED|"

func showPoints(env command.Env, t *api.Traffic, most int) {
	points := t.Points[max(0, len(t.Points)-most):]
	greatest := int64(0)
	for _, p := range points {
		greatest = max(greatest, p.Up+p.Down)
	}
	form := minuteForm
	if t.Step == "day" {
		form = "2006-01-02"
	}
	var rows [][]string
	for _, p := range points {
		rows = append(rows, append(append([]string{p.At.Format(form)}, amounts(&p.Amount)...), bar(p.Up+p.Down, greatest)))
	}
	table(env.Out, strings.ToUpper(t.Step)+amountHead, rows)
}

func showRows(env command.Env, t *api.Traffic, most int) {
	greatest := int64(0)
	for _, r := range t.Rows {
		greatest = max(greatest, r.Up+r.Down)
	}
	head := strings.ToUpper(t.By)
	if t.By == "file" {
		head = "ACCOUNT|FILE"
	}
	var rows [][]string
	for _, r := range t.Rows[:min(len(t.Rows), most)] {
		row := []string{dash(r.Value)}
		if t.By == "file" {
			row = []string{r.Account, r.Value}
		}
		rows = append(rows, slices.Concat(row, amounts(&r.Amount), []string{bar(r.Up+r.Down, greatest)}))
	}
	table(env.Out, head+amountHead, rows)
	if len(t.Rows) > most {
		fmt.Fprintf(env.Out, "%d more: -most shows them.\n", len(t.Rows)-most)
	}
}

// beats shows the last seconds.
func beats(ctx context.Context, env command.Env, c *client, asJSON bool, most int) error {
	var page api.Page[api.Beat]
	if err := c.call(ctx, http.MethodGet, "/beats", nil, &page); err != nil {
		return err
	}
	items := page.Items[max(0, len(page.Items)-most):]
	if asJSON {
		return printJSON(env.Out, items)
	}
	greatest := int64(0)
	for _, b := range items {
		greatest = max(greatest, b.Up+b.Down)
	}
	var rows [][]string
	for _, b := range items {
		rows = append(rows, []string{in(b.At).Format(time.TimeOnly), size(b.Up) + "/s", size(b.Down) + "/s", fmt.Sprint(b.Operations), bar(b.Up+b.Down, greatest)})
	}
	table(env.Out, "SECOND (UTC)|IN|OUT|OPERATIONS|", rows)
	return nil
}
