// Command urbankeep is Urban Keep: the service, its demo and the client that
// administers it.
package main

import (
	"context"
	"os"

	"urbankeep/internal/cli"
	"urbankeep/internal/command"
	"urbankeep/internal/demo"
	"urbankeep/internal/service"
)

func main() {
	commands := append(cli.Commands(), service.Command(), demo.Command())
	env := command.Env{In: os.Stdin, Out: os.Stdout, Err: os.Stderr}
	os.Exit(command.Main(context.Background(), env, commands, os.Args[1:]))
}
