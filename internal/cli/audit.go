package cli

import (
	"context"
	"flag"
	"fmt"
	"net/http"

	"urbankeep/internal/command"
	"urbankeep/internal/web/api"
)

func auditCommands() []*command.Command {
	return []*command.Command{
		clientCommand("audit", "", "Search the audit trail, newest first", "", auditSearch),
		clientCommand("audit verify", "", "Prove that the audit trail is as it was written",
			"Walks the chain from its first record. Ends with status 1 when a record was changed, removed or put in.", auditVerify),
	}
}

func auditSearch(flags *flag.FlagSet, f *common) run {
	query := queryFlags(flags, "account", "operator", "address", "protocol", "session", "action", "outcome", "path", "since", "until")
	most := flags.Int("most", 50, "how `many` at the most")
	return func(ctx context.Context, env command.Env, c *client, _ []string) error {
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
		table(env.Out, "RECORD|TIME (UTC)|WHO|FROM|OVER|DID|WHAT|SIZE|OUTCOME", rows)
		return nil
	}
}

func auditVerify(_ *flag.FlagSet, f *common) run {
	return func(ctx context.Context, env command.Env, c *client, _ []string) error {
		var report api.AuditReport
		if err := c.call(ctx, http.MethodGet, "/audit/verify", nil, &report); err != nil {
			return err
		}
		if *f.json {
			if err := printJSON(env.Out, report); err != nil {
				return err
			}
		} else if report.BadSeq == 0 {
			fmt.Fprintf(env.Out, "the chain holds: %d records are as they were written\n", report.Checked)
		}
		if report.BadSeq == 0 {
			return nil
		}
		if *f.json {
			return command.ErrSilent
		}
		return fmt.Errorf("the chain is broken: %s; %d records before it are as they were written", report.Problem, report.Checked)
	}
}
