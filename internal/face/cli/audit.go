package cli

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"

	"golang.org/x/term"

	"urbankeep/internal/api"
	"urbankeep/internal/face/command"
	"urbankeep/internal/keep"
)

func auditCommands() []*command.Command {
	return []*command.Command{
		clientCommand("audit", "", "Search the audit trail, newest first", "", auditSearch),
		clientCommand("audit export", "", "Print records as csv, jsonl, xferlog or w3c",
			"-after NUMBER goes on behind the last record of an earlier export.", auditExport),
		clientCommand("audit verify", "", "Prove that the audit trail is as it was written",
			"Walks the chain from its first record and holds it to the checkpoints that were signed. Ends with status 1 when a record was changed, removed or put in,\nor the trail was cut short or made anew.", auditVerify),
		clientCommand("retention show", "", "Show how long audit records stay in the trail", "", retentionShow),
		clientCommand("retention set", "", "Set how long audit records stay in the trail",
			"What has stayed long enough is sealed into an archive file and taken out, once an hour. -kind may be given several times;\nwhat no flag names stays as it is.\n  retention set -days 400 -kind list,sign-out=30 -kind account-set,key-add=ever", retentionSet),
		clientCommand("archive list", "", "List the archive files that records were sealed into", "", archiveList),
		clientCommand("archive now", "", "Seal at once what the retention lets go", "", archiveNow),
		clientCommand("archive read", "ARCHIVE", "Print the records of an archive that a search asks for", "", archiveRead),
		clientCommand("audit durability", "[power|process]", "Show or say whether records outlive a power cut when they are acknowledged",
			"power: what is acknowledged is on the medium, and outlives a power cut. process: it outlives the end of the service. store set says the same for files.", auditDurability),
		clientCommand("audit checkpoint", "", "Print the newest signed checkpoint, to be kept elsewhere", "audit verify -checkpoint LINE holds the trail to it, whatever became of this machine.", auditCheckpoint),
	}
}

// auditWords are what a search of the trail can be narrowed by.
var auditWords = []string{"account", "operator", "address", "network", "protocol", "session", "action", "outcome", "reason", "path", "has", "text", "since", "until"}

func auditExport(flags *flag.FlagSet, _ *common) run {
	query := queryFlags(flags, auditWords...)
	format := flags.String("format", "csv", "`csv`, jsonl, xferlog (the transfer log that log analysers read) or w3c (extended log file)")
	after := flags.Int64("after", 0, "go on behind the record with this `number`")
	return func(ctx context.Context, env command.Env, c *client, _ []string) error {
		asked := query()
		asked.Set("format", *format)
		asked.Set("after", fmt.Sprint(*after))
		return c.stream(ctx, "/audit/export?"+asked.Encode(), env.Out)
	}
}

func auditCheckpoint(flags *flag.FlagSet, f *common) run {
	now := flags.Bool("now", false, "sign one first for the records that have come since the last")
	return func(ctx context.Context, env command.Env, c *client, _ []string) error {
		var last api.Checkpoint
		if err := c.call(ctx, map[bool]string{false: http.MethodGet, true: http.MethodPost}[*now], "/audit/checkpoint", nil, &last); err != nil {
			return err
		}
		if *f.json {
			return printJSON(env.Out, last)
		}
		_, err := fmt.Fprintln(env.Out, last.Line)
		return err
	}
}

func auditDurability(_ *flag.FlagSet, f *common) run {
	return func(ctx context.Context, env command.Env, c *client, args []string) error {
		now, method, ask := api.AuditDurability{}, http.MethodGet, any(nil)
		if len(args) > 0 {
			method, ask = http.MethodPut, api.AuditDurability{Durability: keep.Durability(args[0])}
		}
		if err := c.call(ctx, method, "/audit/durability", ask, &now); err != nil {
			return err
		}
		if *f.json {
			return printJSON(env.Out, now)
		}
		_, err := fmt.Fprintln(env.Out, "audit records:", promises[now.Durability])
		return err
	}
}

// promises are what an acknowledgement promises, in words.
var promises = map[keep.Durability]string{
	keep.Power:   "power (what is acknowledged outlives a power cut)",
	keep.Process: "process (what is acknowledged outlives the end of the service)",
}

func auditSearch(flags *flag.FlagSet, f *common) run {
	query := queryFlags(flags, auditWords...)
	most := flags.Int("most", 50, "how `many` at the most")
	count := flags.Bool("count", false, "only count the records")
	return func(ctx context.Context, env command.Env, c *client, _ []string) error {
		if *count {
			return auditCount(ctx, env, c, query(), *f.json)
		}
		found, err := newest[api.AuditRecord](ctx, c, "/audit", query(), *most)
		if err != nil {
			return err
		}
		if *f.json {
			return printJSON(env.Out, found)
		}
		var rows [][]string
		for _, r := range found {
			who := r.Account
			if r.Operator != "" {
				who = "operator " + r.Operator
			}
			what := r.Path
			if r.Action == keep.LockedOut {
				what = r.Detail
			}
			if r.Target != "" {
				what = dash(r.Path) + " > " + r.Target
				if r.Path == "" {
					what = r.Target
				}
			}
			moved := "-"
			if r.Bytes > 0 {
				moved = size(r.Bytes)
			}
			rows = append(rows, []string{fmt.Sprint(r.Seq), at(&r.At), dash(who), dash(r.Address), dash(over(string(r.Protocol), r.Encrypted)),
				string(r.Action), dash(what), moved, ended(string(r.Outcome), string(r.Reason))})
		}
		table(env.Out, "RECORD#8|TIME (UTC)|WHO|FROM#5|OVER#6|DID|WHAT|SIZE#7|OUTCOME", rows)
		return nil
	}
}

func auditCount(ctx context.Context, env command.Env, c *client, query url.Values, asJSON bool) error {
	var n api.AuditCount
	if err := c.call(ctx, http.MethodGet, "/audit/count?"+query.Encode(), nil, &n); err != nil {
		return err
	}
	if asJSON {
		return printJSON(env.Out, n)
	}
	if n.More {
		fmt.Fprint(env.Out, "at least ")
	}
	_, err := fmt.Fprintln(env.Out, n.Count)
	return err
}

func auditVerify(flags *flag.FlagSet, f *common) run {
	kept := flags.String("checkpoint", "", "a `line` that audit checkpoint printed earlier")
	return func(ctx context.Context, env command.Env, c *client, _ []string) error {
		report, err := verified(ctx, env, c, *kept)
		if err != nil {
			return err
		}
		if *f.json {
			if err := printJSON(env.Out, report); err != nil {
				return err
			}
		} else if report.BadSeq == 0 {
			fmt.Fprintf(env.Out, "the chain holds: %s, as they were written; it agrees with %s signed by key %s\n", keep.SayMany(report.Checked, "record"), keep.SayMany(report.Checkpoints, "checkpoint"), report.Key)
			if report.Archived > 0 {
				fmt.Fprintf(env.Out, "of all records %d were archived: %d archive files are as they were sealed, %d were not there to be read\n", report.Archived, report.Archives, report.Elsewhere)
			}
		}
		if report.BadSeq == 0 && report.Waiting > 0 && !*f.json {
			fmt.Fprintf(env.Out, "%s more in the journal: they come into the records as soon as the disk takes them\n", keep.SayMany(int64(report.Waiting), "record"))
		}
		if report.BadSeq == 0 {
			return nil
		}
		if *f.json {
			return command.ErrSilent
		}
		return fmt.Errorf("the chain is broken: %s; %s before it, as they were written", report.Problem, keep.SayMany(report.Checked, "record"))
	}
}

// verified follows the walk along the chain; on a terminal it says how far it is.
func verified(ctx context.Context, env command.Env, c *client, checkpoint string) (report api.AuditReport, err error) {
	response, err := c.ask(ctx, http.MethodGet, "/audit/verify?"+url.Values{"checkpoint": {checkpoint}, "follow": {"1"}}.Encode(), nil)
	if err != nil {
		return report, err
	}
	defer response.Body.Close()
	file, _ := env.Err.(*os.File)
	onScreen := file != nil && term.IsTerminal(int(file.Fd()))
	var last json.RawMessage
	for lines := json.NewDecoder(response.Body); ; {
		var line json.RawMessage
		if err := lines.Decode(&line); err == io.EOF {
			break
		} else if err != nil {
			return report, c.unreachable(err)
		}
		last = line
		var now api.AuditProgress
		if onScreen && json.Unmarshal(line, &now) == nil && now.Total > 0 {
			fmt.Fprintf(env.Err, "\r%d of %d records (%d%%)\x1b[K", now.Checked, now.Total, 100*now.Checked/now.Total)
		}
	}
	if onScreen {
		fmt.Fprint(env.Err, "\r\x1b[K")
	}
	return reportOf(last)
}

// reportOf reads the last line of a walk along the chain: only a whole report is one. The
// service says there, too, why there is none.
func reportOf(line json.RawMessage) (report api.AuditReport, err error) {
	var problem api.Problem
	if json.Unmarshal(line, &problem) == nil && problem.Status != 0 {
		return report, errors.New(problem.Detail)
	}
	strict := json.NewDecoder(bytes.NewReader(line))
	strict.DisallowUnknownFields()
	if err := strict.Decode(&report); err != nil || report.Key == "" {
		return report, errors.New("the service ended the walk without a report: try again, and look at its log")
	}
	return report, nil
}
