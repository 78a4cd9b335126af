package cli

import (
	"cmp"
	"context"
	"errors"
	"flag"
	"fmt"
	"net/http"
	"net/url"
	"strconv"
	"strings"

	"urbankeep/internal/api"
	"urbankeep/internal/face/command"
	"urbankeep/internal/keep"
)

func noticeCommands() []*command.Command {
	return []*command.Command{
		clientCommand("notice events", "", "List what notices can be about", "", noticeEvents),
		clientCommand("notice list", "", "List who is told about what", "", noticeList),
		clientCommand("notice add", "NAME", "Tell somebody when something happens",
			"Receivers are made with receiver add. notice dry-run says what it would have told in the past, notice test tells them a sample.", func(flags *flag.FlagSet, f *common) run { return noticeSave(flags, f, http.MethodPost) }),
		clientCommand("notice set", "NAME", "Change a notice; what is not named stays", "", func(flags *flag.FlagSet, f *common) run { return noticeSave(flags, f, http.MethodPatch) }),
		clientCommand("notice remove", "NAME", "Remove a notice", "", func(_ *flag.FlagSet, f *common) run { return deletion(f, "/notices/", "notice %s removed\n") }),
		clientCommand("notice test", "NAME", "Tell the receivers of a notice a sample", "", noticeTest),
		clientCommand("notice dry-run", "NAME", "Say what a notice would have told in the past", "", noticeDryRun),
		clientCommand("notice told", "", "List what was told, when, and with which answer", "", noticeTold),
		clientCommand("notice retry", "RECEIVER [ID]", "Tell a receiver at once, with what was set aside",
			"What a receiver could not be told for too long is set aside; notice told -state aside lists it. ID is one thing of that.", noticeRetry),
		clientCommand("held list", "", "List the uploads that wait for their check", "", heldList),
		clientCommand("held accept", "ID", "Let an upload in that waits for its check", "", func(flags *flag.FlagSet, f *common) run { return heldDecide(flags, f, keep.CheckYes) }),
		clientCommand("held refuse", "ID", "Refuse an upload that waits for its check", "", func(flags *flag.FlagSet, f *common) run { return heldDecide(flags, f, keep.CheckNo) }),
		clientCommand("trouble list", "", "List what is wrong now", "", troubleList),
	}
}

func noticeEvents(_ *flag.FlagSet, f *common) run {
	return func(ctx context.Context, env command.Env, c *client, _ []string) error {
		var page api.Page[api.NoticeEvent]
		if err := c.call(ctx, http.MethodGet, "/notice-events", nil, &page); err != nil {
			return err
		}
		if *f.json {
			return printJSON(env.Out, page.Items)
		}
		var rows [][]string
		for _, e := range page.Items {
			rows = append(rows, []string{string(e.Event), e.Kind, e.Says})
		}
		table(env.Out, "EVENT|KIND|WHAT HAPPENED", rows)
		return nil
	}
}

func noticeList(flags *flag.FlagSet, f *common) run {
	own := flags.Bool("own", false, "those that account holders made for themselves")
	return func(ctx context.Context, env command.Env, c *client, _ []string) error {
		var page api.Page[keep.Notice]
		if err := c.call(ctx, http.MethodGet, fmt.Sprintf("/notices?own=%t", *own), nil, &page); err != nil {
			return err
		}
		if *f.json {
			return printJSON(env.Out, page.Items)
		}
		var rows [][]string
		for _, n := range page.Items {
			rows = append(rows, []string{n.Name, n.EventList(), n.Filters(), cmp.Or(n.Account, strings.Join(n.Receivers, " ")), map[bool]string{true: "OFF", false: "on"}[n.Off], n.Note})
		}
		table(env.Out, "NOTICE|WHEN|ONLY|TELLS|STATE|NOTE#2", rows)
		return nil
	}
}

// list has a flag give a list; none or all is an empty one.
func list(flags *flag.FlagSet, ask map[string]any, name, field, usage string) {
	flags.Func(name, usage, func(text string) error {
		words := strings.FieldsFunc(text, func(r rune) bool { return r == ',' || r == ' ' })
		if text == "all" || words == nil {
			words = []string{}
		}
		ask[field] = words
		return nil
	})
}

func noticeSave(flags *flag.FlagSet, f *common, method string) run {
	ask := map[string]any{}
	list(flags, ask, "events", "events", "what is to `happen`, as in upload,cut-off; notice events lists them")
	list(flags, ask, "receivers", "receivers", "who is `told`, as in tide-office,operations")
	list(flags, ask, "accounts", "accounts", "only these `accounts`, as in gauge-*,crew-harbour; all for any")
	list(flags, ask, "groups", "groups", "only accounts of these `groups`; all for any")
	list(flags, ask, "networks", "networks", "only from these `networks`, as in 192.0.2.0/24; all for any")
	list(flags, ask, "protocols", "protocols", "only over these `protocols`, as in ftp,ftps; all for any")
	list(flags, ask, "outcomes", "outcomes", "with these `outcomes` instead of done: refused, failed")
	paths := []string{}
	flags.Func("path", "only on this `path` and below, or a pattern as in /in/*.tif or /in/**; may be repeated, all takes them away", func(text string) error {
		if text != "all" {
			paths = append(paths, text)
		}
		ask["paths"] = paths
		return nil
	})
	for _, size := range [][3]string{{"min-size", "minSize", "only files of at least this `size`, as in 1M"}, {"max-size", "maxSize", "only files of at most this `size`; 0 is any"}} {
		flags.Func(size[0], size[2], func(text string) error {
			n, err := keep.ParseSize(size[0], text)
			ask[size[1]] = n
			return err
		})
	}
	var window keep.Window
	var expect keep.Expected
	flags.StringVar(&window.Days, "days", "", "only on these `days`, as in mon-fri; with -by the days on which it is expected")
	flags.StringVar(&window.Hours, "hours", "", "only in these `hours`, as in 18:00-06:00")
	zone := flags.String("in-zone", "", "the time `zone` of days, hours and -by, as in Europe/Oslo; else UTC")
	always := flags.Bool("always", false, "takes -days and -hours away")
	flags.StringVar(&expect.By, "by", "", "for not-come: the `time` of the day by which the upload must have come, as in 06:30")
	flags.BoolVar(&expect.Fetch, "fetch", false, "for not-come: a download is expected, not an upload")
	within := flags.String("within", "1d", "for not-come: how `long` before it may have come")
	flags.Func("note", "`note` for the list", func(text string) error { ask["note"] = text; return nil })
	flags.BoolFunc("off", "tell nobody, until -on", func(string) error { ask["off"] = true; return nil })
	flags.BoolFunc("on", "tell again", func(string) error { ask["off"] = false; return nil })
	return func(ctx context.Context, env command.Env, c *client, args []string) error {
		switch {
		case expect.By != "":
			expect.Days, expect.Zone = window.Days, *zone
			if err := expect.Within.UnmarshalText([]byte(*within)); err != nil {
				return command.Usagef("-within: %s", err)
			}
			ask["expect"] = expect
		case window.Days != "" || window.Hours != "":
			window.Zone = *zone
			ask["window"] = window
		case *always:
			ask["window"] = nil
		}
		if len(ask) == 0 {
			return command.Usagef("say what: -events and -receivers at the least; notice events lists what can happen")
		}
		path := "/notices"
		if method == http.MethodPost {
			ask["name"] = args[0]
		} else {
			path += "/" + name(args[0])
		}
		var n keep.Notice
		if err := c.call(ctx, method, path, ask, &n); err != nil {
			return err
		}
		if *f.json {
			return printJSON(env.Out, n)
		}
		only := n.Filters()
		if only != "" {
			only = " (" + only + ")"
		}
		_, err := fmt.Fprintf(env.Out, "notice %s: on %s%s, tell %s\n", n.Name, n.EventList(), only, strings.Join(n.Receivers, ", "))
		return err
	}
}

func noticeTest(_ *flag.FlagSet, f *common) run {
	return func(ctx context.Context, env command.Env, c *client, args []string) error {
		var page api.Page[api.ReceiverAnswer]
		if err := c.call(ctx, http.MethodPost, "/notices/"+name(args[0])+"/test", struct{}{}, &page); err != nil {
			return err
		}
		return samplesTold(env, f, page.Items)
	}
}

// samplesTold shows what receivers said to a sample; that one could not be told is an error.
func samplesTold(env command.Env, f *common, all []api.ReceiverAnswer) error {
	failed, why := 0, ""
	for _, a := range all {
		if a.Error != "" {
			failed++
			why = a.Receiver + " could not be told: " + a.Error
		}
	}
	if *f.json {
		if err := printJSON(env.Out, all); err != nil {
			return err
		}
	} else {
		var rows [][]string
		for _, a := range all {
			rows = append(rows, []string{a.Receiver, map[bool]string{true: "told", false: "NOT TOLD"}[a.Error == ""], span(a.Seconds), cmp.Or(a.Error, a.Said)})
		}
		table(env.Out, "RECEIVER|STATE|TOOK|ANSWER", rows)
	}
	switch {
	case failed == 1:
		return errors.New(why)
	case failed > 1:
		return fmt.Errorf("%s could not be told: see the answer", keep.SayMany(failed, "receiver"))
	}
	return nil
}

func noticeDryRun(flags *flag.FlagSet, f *common) run {
	since := flags.String("since", "-1d", "from this `time` on, as in -7d or 2026-11-20")
	return func(ctx context.Context, env command.Env, c *client, args []string) error {
		var run api.NoticeDryRun
		if err := c.call(ctx, http.MethodGet, "/notices/"+name(args[0])+"/dry-run?"+url.Values{"since": {*since}}.Encode(), nil, &run); err != nil {
			return err
		}
		if *f.json {
			return printJSON(env.Out, run)
		}
		var rows [][]string
		for _, r := range run.Records {
			rows = append(rows, []string{at(&r.At), cmp.Or(r.Account, "-"), string(r.Action), cmp.Or(r.Path, r.Target), string(r.Outcome), string(r.Reason)})
		}
		if len(rows) > 0 {
			table(env.Out, "TIME (UTC)|ACCOUNT|ACTION|PATH|OUTCOME#2|REASON#3", rows)
		}
		more := ""
		if int(run.Count) > len(rows) {
			more = fmt.Sprintf(", the newest %d are shown", len(rows))
		}
		_, err := fmt.Fprintf(env.Out, "since %s it would have told %s%s\n", at(&run.Since), keep.SayMany(run.Count, "time"), more)
		return err
	}
}

func noticeTold(flags *flag.FlagSet, f *common) run {
	receiver := flags.String("receiver", "", "what this `receiver` was told")
	notice := flags.String("notice", "", "what this `notice` told")
	state := flags.String("state", "", "only what is in this `state`: told, aside, again")
	most := flags.Int("most", 50, "show so `many`, the newest")
	return func(ctx context.Context, env command.Env, c *client, _ []string) error {
		all := []api.Told{}
		query := url.Values{"receiver": {*receiver}, "notice": {*notice}, "state": {*state}, "limit": {strconv.Itoa(max(1, min(*most, 1000)))}}
		err := everyPage(ctx, c, "/told", query, "after", func(items []api.Told) bool {
			all = append(all, items...)
			return len(all) < *most
		})
		if err != nil {
			return err
		}
		all = all[:min(len(all), *most)]
		if *f.json {
			return printJSON(env.Out, all)
		}
		var rows [][]string
		for _, t := range all {
			rows = append(rows, []string{strconv.FormatInt(t.ID, 10), at(&t.At), t.Receiver, string(t.Event), t.About, map[string]string{"told": "told", "aside": "SET ASIDE", "again": "to be retried"}[t.State], strconv.Itoa(t.Tries), t.Answer})
		}
		table(env.Out, "ID|TIME (UTC)|RECEIVER|EVENT|ABOUT#2|STATE|TRIES#3|ANSWER", rows)
		return nil
	}
}

func noticeRetry(_ *flag.FlagSet, f *common) run {
	return func(ctx context.Context, env command.Env, c *client, args []string) error {
		ask := map[string]int64{}
		if len(args) > 1 {
			id, err := strconv.ParseInt(args[1], 10, 64)
			if err != nil || id < 1 {
				return command.Usagef("%q is no ID: notice told -state aside lists them", args[1])
			}
			ask["id"] = id
		}
		var n api.Retried
		if err := c.call(ctx, http.MethodPost, "/receivers/"+name(args[0])+"/retry", ask, &n); err != nil {
			return err
		}
		if *f.json {
			return printJSON(env.Out, n)
		}
		_, err := fmt.Fprintf(env.Out, "%s is tried at once, with %d things that were set aside\n", args[0], n.Retried)
		return err
	}
}

func heldList(_ *flag.FlagSet, f *common) run {
	return func(ctx context.Context, env command.Env, c *client, _ []string) error {
		var page api.Page[api.Held]
		if err := c.call(ctx, http.MethodGet, "/held", nil, &page); err != nil {
			return err
		}
		if *f.json {
			return printJSON(env.Out, page.Items)
		}
		var rows [][]string
		for _, h := range page.Items {
			rows = append(rows, []string{h.ID, at(&h.Since), h.Account, h.Path, keep.SaySize(h.Size), h.Receiver, h.State, strconv.Itoa(h.Tries), cmp.Or(h.Said, "-")})
		}
		table(env.Out, "ID|SINCE (UTC)|ACCOUNT|PATH|SIZE#3|CHECKED BY#2|STATE|TRIES#4|ANSWER", rows)
		return nil
	}
}

func heldDecide(flags *flag.FlagSet, f *common, answer keep.CheckAnswer) run {
	reason := flags.String("reason", "", "`why`, for the audit trail")
	return func(ctx context.Context, env command.Env, c *client, args []string) error {
		if err := c.call(ctx, http.MethodPost, "/held/"+name(args[0]), api.HeldAnswer{Answer: answer, Reason: *reason}, nil); err != nil {
			return err
		}
		if *f.json {
			return printJSON(env.Out, map[string]string{"decided": args[0]})
		}
		_, err := fmt.Fprintf(env.Out, "%s is %s\n", args[0], map[keep.CheckAnswer]string{keep.CheckYes: "let in", keep.CheckNo: "refused"}[answer])
		return err
	}
}

func troubleList(_ *flag.FlagSet, f *common) run {
	return func(ctx context.Context, env command.Env, c *client, _ []string) error {
		var page api.Page[api.Trouble]
		if err := c.call(ctx, http.MethodGet, "/troubles", nil, &page); err != nil {
			return err
		}
		if *f.json {
			return printJSON(env.Out, page.Items)
		}
		if len(page.Items) == 0 {
			_, err := fmt.Fprintln(env.Out, "nothing is wrong")
			return err
		}
		var rows [][]string
		for _, t := range page.Items {
			rows = append(rows, []string{at(&t.Since), string(t.Kind), t.Of, t.Says})
		}
		table(env.Out, "SINCE (UTC)|TROUBLE|OF|WHAT IS WRONG", rows)
		return nil
	}
}
