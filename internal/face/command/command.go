package command

import (
	"bytes"
	"context"
	"errors"
	"flag"
	"fmt"
	"io"
	"strings"
)

// Exit statuses.
const (
	ExitDone   = 0
	ExitFailed = 1 // refused or failed
	ExitUsage  = 2 // wrong usage
)

// Env is what a command reads and writes.
type Env struct {
	In       io.Reader
	Out, Err io.Writer
}

// Command is one command. Its zero Flags has none.
type Command struct {
	Name  string // one or two words: "account add"
	Args  string // as the usage shows them: "NAME"
	Short string // one line, no full stop
	Long  string // more, for -h
	// Sections are the flags in the order in which -h shows them; those that stand in none come before the last.
	Sections []Section
	// Flags declares the command's flags and gives what runs once they are read.
	// args holds what is not a flag.
	Flags func(*flag.FlagSet) func(ctx context.Context, env Env, args []string) error
}

// Section is flags that belong together.
type Section struct{ Title, Flags string } // names, separated by commas

// UsageError is a wrong use of a command.
type UsageError struct{ Say string }

func (e *UsageError) Error() string { return e.Say }

// Usagef makes a [*UsageError].
func Usagef(format string, args ...any) error { return &UsageError{fmt.Sprintf(format, args...)} }

// ErrSilent ends a command with [ExitFailed] when it has said why itself.
var ErrSilent = errors.New("failed")

// Main runs the command that args name and gives the exit status.
func Main(ctx context.Context, env Env, commands []*Command, args []string) int {
	if len(args) == 0 || isHelp(args[0]) || args[0] == "help" && (len(args) == 1 || args[1] == "all") {
		if len(args) > 1 && args[1] == "all" {
			every(env.Out, commands)
		} else {
			overview(env.Out, commands)
		}
		if len(args) == 0 {
			return ExitUsage
		}
		return ExitDone
	}
	if args[0] == "help" {
		args = append(append([]string(nil), args[1:]...), "-h")
	}
	if args[0] == "-version" || args[0] == "--version" {
		args[0] = "version"
	}
	cmd, rest := find(commands, args)
	if cmd == nil && len(args) == 2 && isHelp(args[1]) && family(env.Out, commands, args[0]) {
		return ExitDone
	}
	if cmd == nil {
		fmt.Fprintf(env.Err, "urbankeep: %s\n", unknown(commands, args))
		return ExitUsage
	}
	err := cmd.run(ctx, env, rest)
	var usage *UsageError
	switch {
	case err == nil:
		return ExitDone
	case errors.As(err, &usage):
		fmt.Fprintf(env.Err, "urbankeep %s: %s; urbankeep %s -h shows how\n", cmd.Name, usage.Say, cmd.Name)
		return ExitUsage
	case !errors.Is(err, ErrSilent):
		fmt.Fprintf(env.Err, "urbankeep %s: %s\n", cmd.Name, err)
	}
	return ExitFailed
}

func isHelp(arg string) bool { return arg == "-h" || arg == "-help" || arg == "--help" }

// family lists the commands of one noun.
func family(w io.Writer, commands []*Command, noun string) (any bool) {
	for _, c := range commands {
		if c.Name == noun || strings.HasPrefix(c.Name, noun+" ") {
			fmt.Fprintf(w, "urbankeep %-26s %s\n", strings.TrimSpace(c.Name+" "+c.Args), c.Short)
			any = true
		}
	}
	return any
}

// find takes the command's name off the arguments, the longest name first.
func find(commands []*Command, args []string) (*Command, []string) {
	for words := min(2, len(args)); words > 0; words-- {
		name := strings.Join(args[:words], " ")
		for _, c := range commands {
			if c.Name == name {
				return c, args[words:]
			}
		}
	}
	return nil, nil
}

// unknown says what could have been meant.
func unknown(commands []*Command, args []string) string {
	var verbs []string
	for _, c := range commands {
		if noun, verb, ok := strings.Cut(c.Name, " "); ok && noun == args[0] {
			verbs = append(verbs, verb)
		}
	}
	if len(verbs) == 0 {
		var nouns []string
		for _, c := range commands {
			noun, _, _ := strings.Cut(c.Name, " ")
			nouns = append(nouns, noun)
		}
		return fmt.Sprintf("there is no command %q%s: urbankeep -h lists the ones there are", args[0], meant(args[0], nouns))
	}
	if len(args) > 1 {
		if near := meant(args[1], verbs); near != "" {
			return fmt.Sprintf("there is no command %q%s; %s needs one of: %s", args[0]+" "+args[1], near, args[0], strings.Join(verbs, ", "))
		}
	}
	return fmt.Sprintf("%s needs one of: %s", args[0], strings.Join(verbs, ", "))
}

// meant says which of some words was meant by another, "" when none is near.
func meant(word string, known []string) string {
	best, least := "", 2 // letters that are other ones
	if len(word) > 4 {
		least++
	}
	for _, one := range known {
		if d := distance(word, one); d < least {
			best, least = one, d
		}
	}
	if best == "" {
		return ""
	}
	return fmt.Sprintf(" (did you mean %s?)", best)
}

// distance is how many letters are to be added, taken away or changed to make one word of another.
func distance(a, b string) int {
	row := make([]int, len(b)+1)
	for j := range row {
		row[j] = j
	}
	for i := range len(a) {
		before := row[0]
		row[0] = i + 1
		for j := range len(b) {
			change := before
			if a[i] != b[j] {
				change++
			}
			before = row[j+1]
			row[j+1] = min(row[j]+1, row[j+1]+1, change)
		}
	}
	return row[len(b)]
}

// chapters are the commands that people use, in the order in which an administrator meets them.
var chapters = []struct{ title, commands string }{
	{"Run the service", "serve,setup,checkup,status,demo"},
	{"Let people in", "account add,account list,account show,account set,account suspend,account delete,key add,password-link,handover,explain,rehearse,source add"},
	{"Share folders and limits", "group add,group set,quota list,store add,pass add,limits set"},
	{"Watch", "session watch,session end,transfer list,traffic,trouble list,notice add"},
	{"Prove what happened", "audit,audit export,audit verify,report,history,undo"},
	{"Look after the service", "listener list,listener add,listener set,certificate acme,certificate import,gate set,operator add,retention set,backup,restore"},
}

const title = "Urban Keep: " + what + ",\n" + with + "\n"

// What the program is, in two lines.
const (
	what = "files over FTP, SFTP, WebDAV and the browser"
	with = "with accounts, rights and an audit trail"
)

// overview shows what people do; what is not known is left out.
func overview(w io.Writer, commands []*Command) {
	fmt.Fprint(w, title)
	for _, chapter := range chapters {
		fmt.Fprintf(w, "\n%s\n", chapter.title)
		for name := range strings.SplitSeq(chapter.commands, ",") {
			for _, c := range commands {
				if c.Name == name {
					fmt.Fprintf(w, "  %-21s %s\n", c.Name, c.Short)
				}
			}
		}
	}
	fmt.Fprint(w, "\nEach stands behind urbankeep, as in urbankeep account list.\nCOMMAND -h shows its flags, -h all shows every command.\n")
}

// every shows every command.
func every(w io.Writer, commands []*Command) {
	fmt.Fprint(w, title, "\n")
	for _, c := range sorted(commands) {
		fmt.Fprintf(w, "  urbankeep %-26s %s\n", strings.TrimSpace(c.Name+" "+c.Args), c.Short)
	}
	fmt.Fprint(w, "\nFlags may stand before or after names; COMMAND -h shows them.\n")
}

// Check reports what is wrong with a command line, and runs nothing.
func Check(commands []*Command, args []string) error {
	c, rest := find(commands, args)
	if c == nil {
		return Usagef("%s", unknown(commands, args))
	}
	flags := flag.NewFlagSet(c.Name, flag.ContinueOnError)
	c.Flags(flags)
	_, err := c.read(flags, rest)
	return err
}

// run reads flags wherever they stand and runs the command.
func (c *Command) run(ctx context.Context, env Env, args []string) error {
	flags := flag.NewFlagSet(c.Name, flag.ContinueOnError)
	run := c.Flags(flags)
	names, err := c.read(flags, args)
	if errors.Is(err, flag.ErrHelp) {
		c.usage(env.Out, flags)
		return nil
	}
	if err != nil {
		return err
	}
	return run(ctx, env, names)
}

// read reads flags, and gives the names that stand between them, as many as the command takes.
func (c *Command) read(flags *flag.FlagSet, args []string) (names []string, err error) {
	flags.SetOutput(io.Discard)
	names, err = Interleaved(flags, args)
	if errors.Is(err, flag.ErrHelp) {
		return nil, err
	}
	if err != nil {
		text := err.Error()
		if name, is := strings.CutPrefix(text, "flag provided but not defined: -"); is {
			var known []string
			flags.VisitAll(func(f *flag.Flag) { known = append(known, f.Name) })
			text = "there is no flag -" + name + strings.Replace(meant(name, known), "mean ", "mean -", 1)
		}
		return nil, Usagef("%s", text)
	}
	want := strings.Fields(strings.ReplaceAll(c.Args, " ...]", "]"))
	if len(names) > len(want) && !strings.HasSuffix(c.Args, "...]") || len(names) < len(want) && !strings.HasPrefix(want[len(names)], "[") {
		return nil, Usagef("it takes %s", map[bool]string{true: "no names", false: c.Args}[len(want) == 0])
	}
	return names, nil
}

// Interleaved reads flags before, between and after the names, which the flag
// package alone does not; behind "--" everything is a name.
func Interleaved(flags *flag.FlagSet, args []string) (names []string, err error) {
	for {
		if err := flags.Parse(args); err != nil {
			return nil, err
		}
		rest := flags.Args()
		if ended := len(args) - len(rest); ended > 0 && args[ended-1] == "--" {
			return append(names, rest...), nil
		}
		if len(rest) == 0 {
			return names, nil
		}
		names, args = append(names, rest[0]), rest[1:]
	}
}

func (c *Command) usage(w io.Writer, flags *flag.FlagSet) {
	fmt.Fprintf(w, "urbankeep %s\n\n%s.\n", strings.TrimSpace(c.Name+" "+c.Args), c.Short)
	if c.Long != "" {
		fmt.Fprintf(w, "\n%s\n", c.Long)
	}
	stands := map[string]bool{}
	for _, section := range c.Sections {
		for name := range strings.SplitSeq(section.Flags, ",") {
			stands[name] = true
		}
	}
	var rest []string
	flags.VisitAll(func(f *flag.Flag) {
		if !stands[f.Name] {
			rest = append(rest, f.Name)
		}
	})
	others, last := Section{"Flags", strings.Join(rest, ",")}, len(c.Sections)-1
	if last < 0 {
		showFlags(w, flags, others)
		return
	}
	for _, section := range c.Sections[:last] {
		showFlags(w, flags, section)
	}
	if last > 0 {
		others.Title = "More"
	}
	showFlags(w, flags, others)
	showFlags(w, flags, c.Sections[last])
}

// showFlags shows those of a section that there are.
func showFlags(w io.Writer, flags *flag.FlagSet, section Section) {
	some := flag.NewFlagSet("", flag.ContinueOnError)
	for name := range strings.SplitSeq(section.Flags, ",") {
		if f := flags.Lookup(name); f != nil {
			some.Var(f.Value, f.Name, f.Usage)
		}
	}
	var text bytes.Buffer
	some.SetOutput(&text)
	some.PrintDefaults()
	if text.Len() > 0 {
		fmt.Fprintf(w, "\n%s:\n%s", section.Title, text.String())
	}
}

// List is a flag that may be given several times.
type List []string

func (l *List) String() string { return strings.Join(*l, " ") }

// Set adds one value.
func (l *List) Set(value string) error {
	*l = append(*l, value)
	return nil
}
