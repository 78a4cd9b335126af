package cli

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"

	"golang.org/x/term"

	"urbankeep/internal/face/command"
)

// askPassword reads a new password: twice from a terminal without showing it,
// else the first line of standard input.
func askPassword(env command.Env, forWhom string) (string, error) {
	first, err := askOnce(env, "password for "+forWhom)
	if err != nil {
		return "", err
	}
	file, isTerminal := terminal(env)
	if !isTerminal {
		return first, nil
	}
	again, err := prompt(env, file, "the same again: ")
	if err != nil {
		return "", err
	}
	if first != again {
		return "", errors.New("the two passwords differ: nothing was changed, try again")
	}
	return first, nil
}

// askOnce reads a secret: from a terminal without showing it, else the first line
// of standard input.
func askOnce(env command.Env, what string) (string, error) {
	if file, isTerminal := terminal(env); isTerminal {
		return prompt(env, file, what+": ")
	}
	line, err := bufio.NewReader(env.In).ReadString('\n')
	if err != nil && !(errors.Is(err, io.EOF) && line != "") {
		return "", fmt.Errorf("no %s came on standard input: pipe one in", what)
	}
	return strings.TrimRight(line, "\r\n"), nil
}

// terminal is the standard input where it is one.
func terminal(env command.Env) (*os.File, bool) {
	file, ok := env.In.(*os.File)
	return file, ok && term.IsTerminal(int(file.Fd()))
}

func prompt(env command.Env, file *os.File, say string) (string, error) {
	fmt.Fprint(env.Err, say)
	text, err := term.ReadPassword(int(file.Fd()))
	fmt.Fprintln(env.Err)
	if errors.Is(err, io.EOF) { // Ctrl-D
		err = errors.New("nothing was typed: nothing was changed")
	}
	return string(text), err
}

// confirm asks on a terminal whether something is meant; where there is none, it is refused.
func confirm(env command.Env, what, otherwise string) error {
	if _, isTerminal := terminal(env); !isTerminal {
		return fmt.Errorf("%s To do it all the same, %s", what, otherwise)
	}
	fmt.Fprintf(env.Err, "%s\nType yes to go on: ", what)
	line, err := bufio.NewReader(env.In).ReadString('\n')
	if err != nil {
		fmt.Fprintln(env.Err)
	}
	if strings.TrimSpace(line) != "yes" {
		return errors.New("nothing was changed")
	}
	return nil
}
