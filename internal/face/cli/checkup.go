package cli

import (
	"context"
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

const checkupHelp = `Each line has a state: fine, note (meant so, perhaps), warning (something will go wrong, or is weaker
than it need be) or fault. The exit status is 1 if there is a warning or a fault, so it can be watched.
Nothing is changed, but the count of a folder with a quota that is out of step with the disk.

-ports prints which TCP ports to open, and to forward where a router is in front, instead; -firewall the
commands for a packet filter, the management port first. They are for you to read and run.`

func checkupCommands() []*command.Command {
	return []*command.Command{clientCommand("checkup", "", "Look for what goes wrong in practice, and say what to do", checkupHelp, checkup)}
}

func checkup(flags *flag.FlagSet, f *common) run {
	ports := flags.Bool("ports", false, "print the ports to open and forward")
	firewall := flags.String("firewall", "", "print the commands that open them in this `filter`: nftables, iptables, ufw, firewalld, pf or windows")
	management := flags.Int("management", 22, "the `port` by which this machine itself is administered; 0 for none")
	brief := flags.Bool("brief", false, "print warnings and faults only")
	return func(ctx context.Context, env command.Env, c *client, _ []string) error {
		if *ports || *firewall != "" {
			return showPorts(ctx, env, f, c, *firewall, *management)
		}
		var found api.Checkup
		if err := c.call(ctx, http.MethodGet, "/checkup", nil, &found); err != nil {
			return err
		}
		if *f.json {
			if err := printJSON(env.Out, found); err != nil {
				return err
			}
		} else {
			showCheckup(env, &found, *brief)
		}
		if api.IsWrong(found.Worst) {
			return command.ErrSilent
		}
		return nil
	}
}

// marks are what stands before a line: the state is in words too.
var marks = map[string]string{"fine": " ", "note": "-", "warning": "!", "fault": "X"}

func showCheckup(env command.Env, found *api.Checkup, brief bool) {
	count := map[string]int{}
	for _, one := range found.Findings {
		count[one.State]++
		if brief && !api.IsWrong(one.State) {
			continue
		}
		paragraph(env.Out, fmt.Sprintf("%s %-8s ", marks[one.State], one.State), strings.Repeat(" ", 11), strings.TrimSpace(one.Check+" "+safe(one.Of))+": "+safe(one.Says))
		if one.Do != "" {
			paragraph(env.Out, "             → ", strings.Repeat(" ", 15), safe(one.Do))
		}
	}
	fmt.Fprintf(env.Out, "%d fine, %d to note, %s, %s\n", count["fine"], count["note"], keep.SayMany(count["warning"], "warning"), keep.SayMany(count["fault"], "fault"))
}

func showPorts(ctx context.Context, env command.Env, f *common, c *client, firewall string, management int) error {
	query := url.Values{"firewall": {firewall}, "management": {strconv.Itoa(management)}}
	var found api.Ports
	if err := c.call(ctx, http.MethodGet, "/ports?"+query.Encode(), nil, &found); err != nil {
		return err
	}
	switch {
	case *f.json:
		return printJSON(env.Out, found)
	case firewall != "":
		for _, line := range found.Commands {
			fmt.Fprintln(env.Out, line)
		}
		return nil
	}
	var rows [][]string
	here := ""
	for _, p := range found.Ports {
		if p.Here {
			here = fmt.Sprintf("Port %d stays open here for the %s; forward it only if that is meant.\n", p.Low, p.For)
			continue
		}
		span := strconv.Itoa(p.Low)
		if p.High != p.Low {
			span += "-" + strconv.Itoa(p.High)
		}
		rows = append(rows, []string{span, "tcp", p.For})
	}
	if len(rows) == 0 {
		fmt.Fprintln(env.Out, "Every listener is for this machine only: there is nothing to open. listener set NAME -address :PORT opens one to others.")
		return nil
	}
	table(env.Out, "OPEN AND FORWARD|OVER|FOR", rows)
	fmt.Fprintln(env.Out, "Forward each to the same port of this machine. checkup -firewall FILTER prints the commands that open them here.")
	fmt.Fprint(env.Out, here)
	return nil
}
