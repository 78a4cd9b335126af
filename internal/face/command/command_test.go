package command_test

import (
	"bytes"
	"context"
	"errors"
	"flag"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urbankeep/internal/face/command"
)

func TestFlagsMayStandBeforeBetweenAndAfterNames(t *testing.T) {
	for _, line := range []string{"-n 3 -v one two", "one -n 3 two -v", "one two -v -n=3", "-v one -n 3 two", "--n=3 one --v two"} {
		flags := flag.NewFlagSet("x", flag.ContinueOnError)
		n, v := flags.Int("n", 0, ""), flags.Bool("v", false, "")
		names, err := command.Interleaved(flags, strings.Fields(line))
		require.NoError(t, err, line)
		assert.Equal(t, []string{"one", "two"}, names, line)
		assert.Equal(t, 3, *n)
		assert.True(t, *v)
	}
	flags := flag.NewFlagSet("x", flag.ContinueOnError)
	flags.Bool("v", false, "")
	names, err := command.Interleaved(flags, []string{"one", "--", "-v", "--", "two"})
	require.NoError(t, err)
	assert.Equal(t, []string{"one", "-v", "--", "two"}, names, "behind -- everything is a name")
}

func commands(do func(args []string) error) []*command.Command {
	return []*command.Command{
		{Name: "ship", Short: "Show all"},
		{Name: "ship load", Args: "NAME [PLACE]", Short: "Load one", Long: "More about it.", Flags: func(flags *flag.FlagSet) func(context.Context, command.Env, []string) error {
			flags.Int("tons", 1, "how `many` tons")
			return func(_ context.Context, env command.Env, args []string) error {
				fmt.Fprintln(env.Out, args)
				return do(args)
			}
		}},
	}
}

func run(do func([]string) error, line string) (out, errs string, status int) {
	var o, e bytes.Buffer
	status = command.Main(context.Background(), command.Env{In: strings.NewReader(""), Out: &o, Err: &e}, commands(do), strings.Fields(line))
	return o.String(), e.String(), status
}

func TestStatusAndErrorsSayHowItEnded(t *testing.T) {
	fine := func([]string) error { return nil }
	out, errs, status := run(fine, "ship load barge -tons 3 quay")
	assert.Equal(t, "[barge quay]\n", out)
	assert.Empty(t, errs)
	assert.Zero(t, status)
	for line, say := range map[string]string{
		"sail":                    `there is no command "sail": urbankeep -h lists the ones there are`,
		"ship load":               "it takes NAME [PLACE]; urbankeep ship load -h shows how",
		"ship load a b c":         "it takes NAME [PLACE]",
		"ship load -colour red a": "there is no flag -colour",
		"ship load -tonss 3 a":    "there is no flag -tonss (did you mean -tons?)",
		"shp load":                `there is no command "shp" (did you mean ship?)`,
		"ship load -tons x a":     `invalid value "x" for flag -tons`,
	} {
		out, errs, status := run(fine, line)
		assert.Equal(t, command.ExitUsage, status, line)
		assert.Empty(t, out)
		assert.Contains(t, errs, say)
		assert.Equal(t, 1, strings.Count(errs, "\n"))
	}
	_, errs, status = run(func([]string) error { return errors.New("the barge is full") }, "ship load a")
	assert.Equal(t, command.ExitFailed, status)
	assert.Equal(t, "urbankeep ship load: the barge is full\n", errs)
	_, errs, status = run(func([]string) error { return command.ErrSilent }, "ship load a")
	assert.Equal(t, command.ExitFailed, status)
	assert.Empty(t, errs)
	_, _, status = run(func([]string) error { return command.Usagef("no") }, "ship load a")
	assert.Equal(t, command.ExitUsage, status)
}

func TestHelpShowsEveryCommandAndEachOnesFlags(t *testing.T) {
	for _, line := range []string{"-h all", "help all", "--help all"} {
		out, _, status := run(nil, line)
		assert.Zero(t, status)
		assert.Contains(t, out, "urbankeep ship load NAME [PLACE]")
	}
	var family bytes.Buffer
	assert.Zero(t, command.Main(t.Context(), command.Env{Out: &family}, commands(nil)[1:], []string{"ship", "-h"}))
	assert.Contains(t, family.String(), "urbankeep ship load NAME [PLACE]")
	for _, line := range []string{"ship load -h", "help ship load"} {
		out, _, status := run(nil, line)
		assert.Zero(t, status)
		assert.Contains(t, out, "More about it.")
		assert.Contains(t, out, "-tons many")
	}
	_, _, status := run(nil, "")
	assert.Equal(t, command.ExitUsage, status)
}

func TestTheDataFolderComesFromTheEnvironment(t *testing.T) {
	t.Setenv("URBANKEEP_DATA", "/srv/keep")
	assert.Equal(t, "/srv/keep", command.DataDir())
	t.Setenv("URBANKEEP_DATA", "")
	assert.NotEmpty(t, command.DataDir())
}
