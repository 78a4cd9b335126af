package cli

import (
	"context"
	"flag"
	"fmt"
	"net/http"

	"urbankeep/internal/api"
	"urbankeep/internal/face/command"
	"urbankeep/internal/keep"
)

func operatorCommands() []*command.Command {
	return []*command.Command{
		clientCommand("operator add", "NAME", "Add an operator", "", operatorAdd),
		clientCommand("operator list", "", "List the operators", "", operatorList),
		clientCommand("operator set", "NAME", "Change an operator's role or password, or take its codes or passkeys away", "From the machine itself this works without signing in: so no operator is locked out for good.", operatorSet),
		clientCommand("operator remove", "NAME", "Remove an operator; the last owner stays", "", operatorRemove),
		clientCommand("access list", "[OPERATOR]", "List the console sign-ins and API tokens that work now", "", accessList),
		clientCommand("access end", "ID", "End a console sign-in or an API token", "", accessEnd),
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
			rows = append(rows, []string{o.Operator, string(o.Role), o.Source, map[bool]string{true: "asked for", false: "-"}[o.Codes], at(o.LastSignIn)})
		}
		table(env.Out, "OPERATOR|ROLE|SOURCE|ONE-TIME CODES|LAST SIGN-IN (UTC)", rows)
		return nil
	}
}

func operatorSet(flags *flag.FlagSet, f *common) run {
	role := flags.String("role", "", "`role`: owner, manager or auditor")
	password := flags.Bool("password", false, "a new password; asks for it, else reads it from standard input. It ends its console sign-ins")
	noPasskeys := flags.Bool("no-passkeys", false, "remove its passkeys, for who has lost the device")
	noCodes := flags.Bool("no-codes", false, "ask for no one-time codes any more, for who has lost device and recovery codes")
	source := flags.String("source", "", "`source` of single sign-on that vouches for it from now on, and its password and codes end; own, with -password: the own records")
	return func(ctx context.Context, env command.Env, c *client, args []string) error {
		ask := api.OperatorChange{}
		if *source != "" {
			ask.Source = source
		}
		if *role != "" {
			wanted := keep.Role(*role)
			ask.Role = &wanted
		}
		if *noCodes {
			ask.Codes = new(bool)
		}
		if *noPasskeys {
			ask.Passkeys = new(bool)
		}
		if *password {
			text, err := askPassword(env, args[0])
			if err != nil {
				return err
			}
			ask.Password = &text
		}
		if ask == (api.OperatorChange{}) {
			return command.Usagef("say what is to change: -role, -password, -no-codes, -no-passkeys or -source")
		}
		var o api.Operator
		if err := c.call(ctx, http.MethodPatch, "/operators/"+name(args[0]), ask, &o); err != nil {
			return err
		}
		if *f.json {
			return printJSON(env.Out, o)
		}
		_, err := fmt.Fprintf(env.Out, "operator %s %s: %s\n", o.Operator, c.now("changed"), o.Role)
		return err
	}
}

func operatorRemove(_ *flag.FlagSet, f *common) run {
	return deletion(f, "/operators/", "operator %s removed; what it did stays in the audit trail\n")
}

func accessList(_ *flag.FlagSet, f *common) run {
	return func(ctx context.Context, env command.Env, c *client, args []string) error {
		path := "/access"
		if len(args) > 0 {
			path += "?operator=" + name(args[0])
		}
		var page api.Page[api.Access]
		if err := c.call(ctx, http.MethodGet, path, nil, &page); err != nil {
			return err
		}
		if *f.json {
			return printJSON(env.Out, page.Items)
		}
		var rows [][]string
		for _, a := range page.Items {
			rows = append(rows, []string{a.ID, a.Kind, a.Operator, string(a.Role), a.Label, a.Address, at(&a.Created), at(&a.Expires), at(a.LastUsed)})
		}
		table(env.Out, "ID|KIND|OPERATOR|ROLE|LABEL#3|FROM#5|MADE (UTC)#6|ENDS (UTC)|LAST USED (UTC)#4", rows)
		return nil
	}
}

func accessEnd(_ *flag.FlagSet, f *common) run {
	return deletion(f, "/access/", "%s ended\n")
}

func tokenAdd(flags *flag.FlagSet, f *common) run {
	label := flags.String("label", "", "what it is `for`")
	role := flags.String("role", "", "a lesser `role` than its operator has: manager or auditor")
	days := flags.Int("days", 90, "how many `days` it works, at most 366")
	return func(ctx context.Context, env command.Env, c *client, args []string) error {
		var made api.Token
		if err := c.call(ctx, http.MethodPost, "/operators/"+name(args[0])+"/tokens", api.TokenNew{Label: *label, Role: keep.Role(*role), Days: *days}, &made); err != nil {
			return err
		}
		if *f.json {
			return printJSON(env.Out, made)
		}
		fmt.Fprintf(env.Err, "works as %s until %s %s\n", made.Role, at(&made.Expires), zoneName())
		_, err := fmt.Fprintln(env.Out, made.Token)
		return err
	}
}
