package command

import (
	"context"
	"flag"
	"fmt"
	"io"
	"strings"
)

// Completion is "completion", which writes what a shell needs to complete the commands.
func Completion(commands func() []*Command) *Command {
	return &Command{Name: "completion", Args: "SHELL", Short: "Print what makes bash, zsh or fish complete commands and flags",
		Long: "bash:  urbankeep completion bash > /etc/bash_completion.d/urbankeep\nzsh:   urbankeep completion zsh > /usr/local/share/zsh/site-functions/_urbankeep\nfish:  urbankeep completion fish > ~/.config/fish/completions/urbankeep.fish",
		Flags: func(*flag.FlagSet) func(context.Context, Env, []string) error {
			return func(_ context.Context, env Env, args []string) error {
				return WriteCompletion(env.Out, args[0], commands())
			}
		}}
}

// WriteCompletion writes the completion of a shell.
func WriteCompletion(w io.Writer, shell string, commands []*Command) error {
	write, ok := map[string]func(io.Writer, []*Command){"bash": bash, "zsh": zsh, "fish": fish}[shell]
	if !ok {
		return Usagef("%q is no shell that is known: use bash, zsh or fish", shell)
	}
	write(w, sorted(commands))
	return nil
}

// words are the first words of the commands, and those behind each.
func words(commands []*Command) (first []string, second map[string][]string) {
	second = map[string][]string{}
	for _, c := range commands {
		noun, verb, two := strings.Cut(c.Name, " ")
		if len(first) == 0 || first[len(first)-1] != noun {
			first = append(first, noun)
		}
		if two {
			second[noun] = append(second[noun], verb)
		}
	}
	return first, second
}

func (c *Command) flagNames() (names []string) {
	for _, f := range c.described() {
		names = append(names, "-"+f.Name)
	}
	return names
}

func bash(w io.Writer, commands []*Command) {
	first, second := words(commands)
	fmt.Fprintf(w, `# bash completion for urbankeep
_urbankeep() {
  local cur=${COMP_WORDS[COMP_CWORD]} one=${COMP_WORDS[1]} two=${COMP_WORDS[2]} list=
  COMPREPLY=()
  if [ "$COMP_CWORD" -eq 1 ]; then
    COMPREPLY=($(compgen -W "%s help" -- "$cur"))
    return
  fi
  if [ "$COMP_CWORD" -eq 2 ]; then
    case $one in
`, strings.Join(first, " "))
	for _, noun := range first {
		if len(second[noun]) > 0 {
			fmt.Fprintf(w, "      %s) list=\"%s\" ;;\n", noun, strings.Join(second[noun], " "))
		}
	}
	fmt.Fprint(w, "    esac\n  fi\n  case $cur in\n    -*)\n      case \"$one $two\" in\n")
	for _, two := range []bool{true, false} { // the longer names first
		for _, c := range commands {
			if strings.Contains(c.Name, " ") == two {
				fmt.Fprintf(w, "        \"%s\"*) list=\"%s\" ;;\n", c.Name, strings.Join(c.flagNames(), " "))
			}
		}
	}
	fmt.Fprint(w, `      esac ;;
  esac
  COMPREPLY=($(compgen -W "$list" -- "$cur"))
  [ -n "$list" ] || COMPREPLY=($(compgen -f -- "$cur"))
}
complete -o filenames -F _urbankeep urbankeep
`)
}

// zsh takes that of bash.
func zsh(w io.Writer, commands []*Command) {
	fmt.Fprint(w, "#compdef urbankeep\nautoload -U +X bashcompinit && bashcompinit\n")
	bash(w, commands)
}

func fish(w io.Writer, commands []*Command) {
	first, second := words(commands)
	fmt.Fprintf(w, "# fish completion for urbankeep\ncomplete -c urbankeep -n __fish_use_subcommand -f -a '%s'\n", strings.Join(first, " "))
	for _, noun := range first {
		if len(second[noun]) > 0 {
			fmt.Fprintf(w, "complete -c urbankeep -n '__fish_seen_subcommand_from %s; and not __fish_seen_subcommand_from %s' -f -a '%s'\n", noun, strings.Join(second[noun], " "), strings.Join(second[noun], " "))
		}
	}
	for _, c := range commands {
		noun, verb, two := strings.Cut(c.Name, " ")
		when := "__fish_seen_subcommand_from " + noun
		if two {
			when += "; and __fish_seen_subcommand_from " + verb
		}
		for _, f := range c.described() {
			about, _, _ := strings.Cut(f.Usage, "\n")
			fmt.Fprintf(w, "complete -c urbankeep -n '%s' -o %s -d '%s'\n", when, f.Name, strings.NewReplacer(`\`, `\\`, "'", `\'`).Replace(about))
		}
	}
}
