package cli

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"

	"golang.org/x/term"

	"urbankeep/internal/command"
)

// askPassword reads a new password: twice from a terminal without showing it,
// else the first line of standard input.
func askPassword(env command.Env, forWhom string) (string, error) {
	file, ok := env.In.(*os.File)
	if !ok || !term.IsTerminal(int(file.Fd())) {
		line, err := bufio.NewReader(env.In).ReadString('\n')
		if err != nil && !(errors.Is(err, io.EOF) && line != "") {
			return "", errors.New("no password came on standard input: pipe one in, or use -generate")
		}
		return strings.TrimRight(line, "\r\n"), nil
	}
	first, err := prompt(env, file, "password for "+forWhom+": ")
	if err != nil {
		return "", err
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

func prompt(env command.Env, file *os.File, say string) (string, error) {
	fmt.Fprint(env.Err, say)
	text, err := term.ReadPassword(int(file.Fd()))
	fmt.Fprintln(env.Err)
	return string(text), err
}
