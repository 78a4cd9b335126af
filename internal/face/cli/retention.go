package cli

import (
	"context"
	"flag"
	"fmt"
	"net/http"
	"os"
	"strings"

	"urbankeep/internal/api"
	"urbankeep/internal/face/command"
	"urbankeep/internal/keep"
)

func collectorCommands() []*command.Command {
	return []*command.Command{
		clientCommand("collector show", "", "Show where audit records are sent, and how far that has come", "", collectorShow),
		clientCommand("collector set", "ADDRESS", "Send audit records to a syslog collector (RFC 5424)",
			"ADDRESS is tls://HOST:PORT, tcp://HOST:PORT or udp://HOST:PORT. A first collector gets what is recorded from now on,\nanother one what the one before did not get.", collectorSet),
		clientCommand("collector remove", "", "Send audit records nowhere", "", collectorRemove),
	}
}

func retentionShow(_ *flag.FlagSet, f *common) run {
	return func(ctx context.Context, env command.Env, c *client, _ []string) error {
		var keeps keep.Retention
		if err := c.call(ctx, http.MethodGet, "/audit/retention", nil, &keeps); err != nil {
			return err
		}
		return showRetention(env, keeps, *f.json)
	}
}

func showRetention(env command.Env, keeps keep.Retention, asJSON bool) error {
	if asJSON {
		return printJSON(env.Out, keeps)
	}
	days := func(n int) string {
		if n == 0 {
			return "for ever"
		}
		return keep.SayMany(n, "day")
	}
	var rows [][]string
	for _, k := range keeps.Kinds {
		names := make([]string, len(k.Actions))
		for i, a := range k.Actions {
			names[i] = string(a)
		}
		rows = append(rows, []string{strings.Join(names, ", "), days(k.Days)})
	}
	table(env.Out, "RECORDS OF|STAY", append(rows, []string{"everything else", days(keeps.Days)}))
	return nil
}

func retentionSet(flags *flag.FlagSet, f *common) run {
	var kinds []keep.KindRetention
	days := flags.String("days", "", "how many `days` records stay; ever keeps them")
	flags.Func("kind", "`ACTION,ACTION=DAYS`: records of these actions stay so long; ever keeps them, usual as long as all others", func(text string) error {
		k, err := keep.ParseKind(text)
		kinds = append(kinds, k)
		return err
	})
	return func(ctx context.Context, env command.Env, c *client, _ []string) error {
		if *days == "" && kinds == nil {
			return command.Usagef("say what is to change: -days or -kind; retention show tells what is so now")
		}
		var keeps, now keep.Retention
		if err := c.call(ctx, http.MethodGet, "/audit/retention", nil, &keeps); err != nil {
			return err
		}
		if *days != "" {
			n, err := keep.ParseDays(*days)
			if err != nil {
				return command.Usagef("-days: %s", err)
			}
			keeps.Days = n
		}
		for _, k := range kinds {
			keeps.Put(k)
		}
		if err := c.call(ctx, http.MethodPut, "/audit/retention", keeps, &now); err != nil {
			return err
		}
		return showRetention(env, now, *f.json)
	}
}

func archiveList(_ *flag.FlagSet, f *common) run {
	return func(ctx context.Context, env command.Env, c *client, _ []string) error {
		return showArchives(ctx, env, c, http.MethodGet, *f.json)
	}
}

func archiveNow(_ *flag.FlagSet, f *common) run {
	return func(ctx context.Context, env command.Env, c *client, _ []string) error {
		return showArchives(ctx, env, c, http.MethodPost, *f.json)
	}
}

func showArchives(ctx context.Context, env command.Env, c *client, method string, asJSON bool) error {
	var page api.Page[api.Archive]
	if err := c.call(ctx, method, "/audit/archives", nil, &page); err != nil {
		return err
	}
	if asJSON {
		return printJSON(env.Out, page.Items)
	}
	if len(page.Items) == 0 {
		fmt.Fprintln(env.Out, "No record was sealed into an archive: retention show says how long they stay.")
		return nil
	}
	var rows [][]string
	for _, a := range page.Items {
		there := size(a.Bytes)
		if a.Bytes == 0 {
			there = "not there"
		}
		rows = append(rows, []string{a.Name, at(&a.Created), fmt.Sprint(a.Records), fmt.Sprintf("%d to %d", a.First, a.Last), there})
	}
	table(env.Out, "ARCHIVE|MADE (UTC)#3|RECORDS|OF THE TRAIL#4|FILE", rows)
	return nil
}

func archiveRead(flags *flag.FlagSet, _ *common) run {
	query := queryFlags(flags, auditWords...)
	format := flags.String("format", "jsonl", "`jsonl`, csv, xferlog or w3c")
	return func(ctx context.Context, env command.Env, c *client, args []string) error {
		asked := query()
		asked.Set("format", *format)
		return c.stream(ctx, "/audit/archives/"+name(args[0])+"?"+asked.Encode(), env.Out)
	}
}

func collectorShow(_ *flag.FlagSet, f *common) run {
	return func(ctx context.Context, env command.Env, c *client, _ []string) error {
		var now api.CollectorState
		if err := c.call(ctx, http.MethodGet, "/collector", nil, &now); err != nil {
			return err
		}
		return showCollector(env, &now, *f.json)
	}
}

func showCollector(env command.Env, now *api.CollectorState, asJSON bool) error {
	if asJSON {
		return printJSON(env.Out, now)
	}
	if now.Address == "" {
		fmt.Fprintln(env.Out, "Audit records are sent nowhere: collector set tls://HOST:PORT begins.")
		return nil
	}
	state := "connecting"
	switch {
	case now.Connected:
		state = "connected"
	case now.Trouble != "":
		state = "waiting: " + now.Trouble
	}
	table(env.Out, "COLLECTOR|"+safe(now.Address), [][]string{{"state", state + ", since " + at(&now.Since) + " " + zoneName()}, {"delivered", fmt.Sprintf("up to record %d", now.Sent)}, {"behind it", keep.SayMany(now.Waiting, "record")}})
	return nil
}

func collectorSet(flags *flag.FlagSet, f *common) run {
	trust := flags.String("trust", "", "`file` (PEM) with the certificate of the authority that signed the collector's; else those of the system")
	return func(ctx context.Context, env command.Env, c *client, args []string) error {
		to := keep.Collector{Address: args[0]}
		if *trust != "" {
			text, err := os.ReadFile(*trust)
			if err != nil {
				return err
			}
			to.Trust = string(text)
		}
		return putCollector(ctx, env, c, to, *f.json)
	}
}

func collectorRemove(_ *flag.FlagSet, f *common) run {
	return func(ctx context.Context, env command.Env, c *client, _ []string) error {
		return putCollector(ctx, env, c, keep.Collector{}, *f.json)
	}
}

func putCollector(ctx context.Context, env command.Env, c *client, to keep.Collector, asJSON bool) error {
	var now api.CollectorState
	if err := c.call(ctx, http.MethodPut, "/collector", to, &now); err != nil {
		return err
	}
	return showCollector(env, &now, asJSON)
}
