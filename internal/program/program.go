package program

import (
	"context"
	"flag"
	"fmt"
	"runtime"

	_ "golang.org/x/crypto/x509roots/fallback" // who vouches for others, where a machine does not know: in a container

	"urbankeep/internal/demo"
	"urbankeep/internal/face/cli"
	"urbankeep/internal/face/command"
	"urbankeep/internal/service"
)

// Version is set when the program is linked.
var Version = "unversioned"

// Commands are all there are.
func Commands() []*command.Command {
	all := append(cli.Commands(), service.Command(), service.RestoreCommand(), demo.Command(), version())
	return append(all, command.Completion(Commands, cli.Names)...)
}

func version() *command.Command {
	return &command.Command{Name: "version", Short: "Print the version of the program",
		Flags: func(*flag.FlagSet) func(context.Context, command.Env, []string) error {
			return func(_ context.Context, env command.Env, _ []string) error {
				_, err := fmt.Fprintf(env.Out, "urbankeep %s, %s/%s, %s\n", Version, runtime.GOOS, runtime.GOARCH, runtime.Version())
				return err
			}
		}}
}
