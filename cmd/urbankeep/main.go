// Command urbankeep is Urban Keep: the service, its demo and the client that
// administers it.
package main

import (
	"context"
	"os"
	"runtime/debug"

	"urbankeep/internal/face/command"
	"urbankeep/internal/files/picture"
	"urbankeep/internal/program"
)

// gcPercent lets the heap grow further between two collections than Go's 100: a
// transfer makes garbage fast and keeps little, and collecting it cost a tenth
// of the speed. GOGC in the environment wins.
const gcPercent = 400

func main() {
	if os.Getenv("GOGC") == "" {
		debug.SetGCPercent(gcPercent)
	}
	if len(os.Args) == 3 && os.Args[1] == picture.Word {
		if err := picture.Draw(os.Stdin, os.Stdout, os.Args[2]); err != nil {
			os.Exit(1)
		}
		return
	}
	env := command.Env{In: os.Stdin, Out: os.Stdout, Err: os.Stderr}
	os.Exit(command.Main(context.Background(), env, program.Commands(), os.Args[1:]))
}
