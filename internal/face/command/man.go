package command

import (
	"bytes"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
)

// ManPages writes a manual page for the program and one for each command into a folder,
// in the man macros (groff_man(7)), from the texts that -h shows. The default of -data is
// left out: it is that of the machine.
func ManPages(dir, version string, commands []*Command) error {
	var all bytes.Buffer
	head(&all, "urbankeep", what+", "+with, version)
	fmt.Fprint(&all, ".SH SYNOPSIS\n.B urbankeep\n.I COMMAND\n[flags] [names]\n.SH DESCRIPTION\n"+
		"One program: the service, and the client that administers it over a socket in its data folder.\nFlags may stand before or after names.\n.SH COMMANDS\n")
	for _, c := range sorted(commands) {
		fmt.Fprintf(&all, ".TP\n.B %s\n%s.\nSee\n.BR %s (1).\n", roff(strings.TrimSpace(c.Name+" "+c.Args)), roff(c.Short), roff(c.page()))
		var one bytes.Buffer
		c.man(&one, version)
		if err := os.WriteFile(filepath.Join(dir, c.page()+".1"), one.Bytes(), 0o644); err != nil {
			return err
		}
	}
	fmt.Fprint(&all, ".SH EXIT STATUS\n0 done, 1 refused or failed, 2 wrong usage.\n.SH ENVIRONMENT\n.TP\n.B URBANKEEP_DATA\nthe data folder, where -data does not say\n"+
		".TP\n.B URBANKEEP_TOKEN\nthe API token for -server, where -token-file does not say\n")
	return os.WriteFile(filepath.Join(dir, "urbankeep.1"), all.Bytes(), 0o644)
}

// page is the name of a command's manual page.
func (c *Command) page() string { return "urbankeep-" + strings.ReplaceAll(c.Name, " ", "-") }

func (c *Command) man(w io.Writer, version string) {
	head(w, c.page(), c.Short, version)
	fmt.Fprintf(w, ".SH SYNOPSIS\n.B urbankeep %s\n[flags] %s\n", roff(c.Name), roff(c.Args))
	if c.Long != "" {
		fmt.Fprint(w, ".SH DESCRIPTION\n.nf\n")
		for line := range strings.Lines(c.Long + "\n") {
			fmt.Fprintln(w, roff(strings.TrimSuffix(line, "\n")))
		}
		fmt.Fprint(w, ".fi\n")
	}
	fmt.Fprint(w, ".SH FLAGS\n")
	for _, f := range c.described() {
		fmt.Fprintf(w, ".TP\n.B \\-%s", roff(f.Name))
		if f.Value != "" {
			fmt.Fprintf(w, " \\fI%s\\fR", roff(f.Value))
		}
		fmt.Fprintf(w, "\n%s", roff(f.Usage))
		if f.Default != "" && f.Name != "data" {
			fmt.Fprintf(w, " (at first %s)", roff(f.Default))
		}
		fmt.Fprintln(w)
	}
	fmt.Fprint(w, ".SH SEE ALSO\n.BR urbankeep (1)\n")
}

func head(w io.Writer, name, short, version string) {
	fmt.Fprintf(w, ".TH %s 1 \"\" \"Urban Keep %s\" \"Urban Keep\"\n.SH NAME\n%s \\- %s\n", strings.ToUpper(name), roff(version), roff(name), roff(short))
}

// roff keeps a line from being read as a request, and hyphens from becoming dashes.
func roff(text string) string {
	text = strings.NewReplacer(`\`, `\e`, "-", `\-`).Replace(text)
	if strings.HasPrefix(text, ".") || strings.HasPrefix(text, "'") {
		text = `\&` + text
	}
	return text
}
