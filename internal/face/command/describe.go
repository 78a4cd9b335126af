package command

import (
	"flag"
	"io"
	"slices"
	"strings"
)

// described is a flag as documents show it.
type described struct {
	Name, Value, Usage, Default string
	Bool                        bool
}

// described are the flags of a command, in the order of the alphabet.
func (c *Command) described() (found []described) {
	if c.Flags == nil {
		return nil
	}
	flags := flag.NewFlagSet(c.Name, flag.ContinueOnError)
	flags.SetOutput(io.Discard)
	c.Flags(flags)
	flags.VisitAll(func(f *flag.Flag) {
		value, usage := flag.UnquoteUsage(f)
		one := described{Name: f.Name, Value: value, Usage: usage, Default: f.DefValue, Bool: value == ""}
		if one.Default == "false" || one.Default == "0" || one.Default == "[]" {
			one.Default = ""
		}
		found = append(found, one)
	})
	return found
}

// sorted are the commands by name.
func sorted(commands []*Command) []*Command {
	all := slices.Clone(commands)
	slices.SortFunc(all, func(a, b *Command) int { return strings.Compare(a.Name, b.Name) })
	return all
}
