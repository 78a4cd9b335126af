package command

import (
	"context"
	"flag"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"
)

// Names gives the names that there are of a kind of thing, such as account, group or action; none where
// that is not known.
type Names func(ctx context.Context, env Env, kind string) []string

// Completion are "completion", which writes what a shell needs, and "completion words", which that asks what may be
// typed next.
func Completion(commands func() []*Command, names Names) []*Command {
	return []*Command{
		{Name: "completion", Args: "SHELL", Short: "Print what makes bash, zsh or fish complete commands, flags and names",
			Long: "bash:  urbankeep completion bash > /etc/bash_completion.d/urbankeep\nzsh:   urbankeep completion zsh > /usr/local/share/zsh/site-functions/_urbankeep\nfish:  urbankeep completion fish > ~/.config/fish/completions/urbankeep.fish",
			Flags: func(*flag.FlagSet) func(context.Context, Env, []string) error {
				return func(_ context.Context, env Env, args []string) error { return WriteCompletion(env.Out, args[0]) }
			}},
		{Name: "completion words", Args: "[WORD ...]", Short: "Print what the last of some words can become, for the completion of a shell",
			Long: "Give the words behind --: urbankeep completion words -- account show \"\"",
			Flags: func(*flag.FlagSet) func(context.Context, Env, []string) error {
				return func(ctx context.Context, env Env, args []string) error {
					ctx, stop := context.WithTimeout(ctx, completeWithin)
					defer stop()
					for _, word := range complete(ctx, env, commands(), names, args) {
						fmt.Fprintln(env.Out, word)
					}
					return nil
				}
			}},
	}
}

// completeWithin bounds how long a shell waits for names.
const completeWithin = 3 * time.Second

// WriteCompletion writes the completion of a shell. Where no word is known files are completed.
func WriteCompletion(w io.Writer, shell string) error {
	text, ok := map[string]string{"bash": `# bash completion for urbankeep
_urbankeep() {
  local cur=${COMP_WORDS[COMP_CWORD]}
  COMPREPLY=($(compgen -W "$("${COMP_WORDS[0]}" completion words -- "${COMP_WORDS[@]:1:COMP_CWORD}" 2>/dev/null)" -- "$cur"))
  [ ${#COMPREPLY[@]} -gt 0 ] || COMPREPLY=($(compgen -f -- "$cur"))
}
complete -o filenames -F _urbankeep urbankeep
`, "zsh": `#compdef urbankeep
_urbankeep() {
  local -a found
  found=(${(f)"$("${words[1]}" completion words -- "${(@)words[2,CURRENT]}" 2>/dev/null)"})
  if (( ${#found} )); then compadd -- $found; else _files; fi
}
if [ "$funcstack[1]" = _urbankeep ]; then _urbankeep "$@"; else compdef _urbankeep urbankeep; fi
`, "fish": `# fish completion for urbankeep
function __urbankeep_words
  set -l typed (commandline -opc) (commandline -ct)
  set -l found ($typed[1] completion words -- $typed[2..-1] 2>/dev/null)
  if test (count $found) -gt 0
    printf '%s\n' $found
  else
    __fish_complete_path (commandline -ct)
  end
end
complete -c urbankeep -f -a '(__urbankeep_words)'
`}[shell]
	if !ok {
		return Usagef("%q is no shell that is known: use bash, zsh or fish", shell)
	}
	_, err := io.WriteString(w, text)
	return err
}

// complete gives what the last of the words can become.
func complete(ctx context.Context, env Env, commands []*Command, names Names, words []string) []string {
	if len(words) == 0 {
		return nil
	}
	before, last := words[:len(words)-1], words[len(words)-1]
	var found []string
	cmd, rest := find(commands, before)
	switch {
	case len(before) == 0:
		found = append(found, "help")
		for _, c := range commands {
			noun, _, _ := strings.Cut(c.Name, " ")
			found = append(found, noun)
		}
	case cmd != nil && (strings.HasPrefix(last, "-") || len(rest) > 0 && kindOf(cmd, rest) != ""):
		found = flagWords(ctx, env, cmd, names, rest, last)
	default:
		for _, c := range commands {
			if noun, verb, two := strings.Cut(c.Name, " "); two && len(before) == 1 && noun == before[0] {
				found = append(found, verb)
			}
		}
		if cmd != nil {
			found = append(found, argumentWords(ctx, env, cmd, names, rest)...)
		}
	}
	slices.Sort(found)
	return slices.DeleteFunc(slices.Compact(found), func(word string) bool {
		return !strings.HasPrefix(word, last) || strings.ContainsFunc(word, func(r rune) bool { return r <= ' ' || strings.ContainsRune("\"'`$\\;|&<>()*?[]{}!#~", r) })
	})
}

// flagWords are the flags of a command, or the values of the one that stands last.
func flagWords(ctx context.Context, env Env, cmd *Command, names Names, rest []string, last string) (found []string) {
	if !strings.HasPrefix(last, "-") {
		return names(ctx, env, kindOf(cmd, rest))
	}
	for _, f := range cmd.described() {
		found = append(found, "-"+f.Name)
	}
	return found
}

// kindOf is what the value of the flag that stands last is a name of, "" when none does.
func kindOf(cmd *Command, rest []string) string {
	name := strings.TrimLeft(rest[len(rest)-1], "-")
	if name == rest[len(rest)-1] {
		return ""
	}
	for _, f := range cmd.described() {
		if f.Name == name && !f.Bool {
			return strings.TrimSuffix(strings.TrimPrefix(f.Name, "un"), "s")
		}
	}
	return ""
}

// argumentWords are the names that may stand where a command takes its next one.
func argumentWords(ctx context.Context, env Env, cmd *Command, names Names, rest []string) []string {
	at := 0
	takesValue := map[string]bool{}
	for _, f := range cmd.described() {
		takesValue[f.Name] = !f.Bool
	}
	for i := 0; i < len(rest); i++ {
		if flag := strings.TrimLeft(rest[i], "-"); flag == rest[i] {
			at++
		} else if takesValue[flag] {
			i++
		}
	}
	wanted := strings.Fields(cmd.Args)
	if at >= len(wanted) {
		return nil
	}
	kind := strings.ToLower(strings.Trim(wanted[at], "[]"))
	if noun, _, _ := strings.Cut(cmd.Name, " "); kind == "name" {
		kind = noun
	}
	if kind == "shell" {
		return []string{"bash", "zsh", "fish"}
	}
	return names(ctx, env, kind)
}
