// Command urbankeep is Urban Keep: the service, its demo and the client that
// administers it.
package main

import (
	"context"
	"os"
	"runtime/debug"

	"urbankeep/internal/cli"
	"urbankeep/internal/command"
	"urbankeep/internal/demo"
	"urbankeep/internal/service"
)

// gcPercent lets the heap grow further between two collections than Go's 100: a
// transfer makes garbage fast and keeps little, and collecting it cost a tenth
// of the speed. GOGC in the environment wins.
const gcPercent = 400

func main() {
	if os.Getenv("GOGC") == "" {
		debug.SetGCPercent(gcPercent)
	}
	commands := append(cli.Commands(), service.Command(), service.RestoreCommand(), demo.Command())
	env := command.Env{In: os.Stdin, Out: os.Stdout, Err: os.Stderr}
	os.Exit(command.Main(context.Background(), env, commands, os.Args[1:]))
}
