package cli

import (
	"context"
	"flag"
	"fmt"
	"net/http"

	"urbankeep/internal/command"
	"urbankeep/internal/keep"
	"urbankeep/internal/web/api"
)

func operatorCommands() []*command.Command {
	return []*command.Command{
		clientCommand("operator add", "NAME", "Add an operator; asks for the password, else reads it from standard input", "", operatorAdd),
		clientCommand("operator list", "", "List the operators", "", operatorList),
		clientCommand("token add", "OPERATOR", "Make an API token that stands for an operator, and print it once", "", tokenAdd),
	}
}

func operatorAdd(flags *flag.FlagSet, f *common) run {
	role := flags.String("role", "manager", "`role`: owner, manager (everything but operators) or auditor (reads only)")
	return func(ctx context.Context, env command.Env, c *client, args []string) error {
		password, err := askPassword(env, args[0])
		if err != nil {
			return err
		}
		var made api.Operator
		ask := api.OperatorNew{Operator: args[0], Role: keep.Role(*role), Password: password}
		if err := c.call(ctx, http.MethodPost, "/operators", ask, &made); err != nil {
			return err
		}
		if *f.json {
			return printJSON(env.Out, made)
		}
		fmt.Fprintf(env.Out, "operator %s added as %s\n", made.Operator, made.Role)
		return nil
	}
}

func operatorList(_ *flag.FlagSet, f *common) run {
	return func(ctx context.Context, env command.Env, c *client, _ []string) error {
		var page api.Page[api.Operator]
		if err := c.call(ctx, http.MethodGet, "/operators", nil, &page); err != nil {
			return err
		}
		if *f.json {
			return printJSON(env.Out, page.Items)
		}
		var rows [][]string
		for _, o := range page.Items {
			rows = append(rows, []string{o.Operator, string(o.Role)})
		}
		table(env.Out, "OPERATOR|ROLE", rows)
		return nil
	}
}

func tokenAdd(flags *flag.FlagSet, f *common) run {
	label := flags.String("label", "", "what it is `for`")
	days := flags.Int("days", 90, "how many `days` it works, at most 366")
	return func(ctx context.Context, env command.Env, c *client, args []string) error {
		var made api.Token
		if err := c.call(ctx, http.MethodPost, "/operators/"+name(args[0])+"/tokens", api.TokenNew{Label: *label, Days: *days}, &made); err != nil {
			return err
		}
		if *f.json {
			return printJSON(env.Out, made)
		}
		fmt.Fprintln(env.Out, made.Token)
		return nil
	}
}
