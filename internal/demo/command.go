package demo

import (
	"context"
	"flag"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"time"

	"urbankeep/internal/face/command"
	"urbankeep/internal/service"
)

// grace is short: nobody's real transfer runs in a demo.
const grace = 5 * time.Second

// Command is "demo".
func Command() *command.Command {
	return &command.Command{Name: "demo", Short: "Run the service on a sample city, with live traffic",
		Long: "The city is made anew at each start, in a temporary folder unless -data names one;\nits credentials are in credentials.json there.",
		Flags: func(flags *flag.FlagSet) func(context.Context, command.Env, []string) error {
			o := service.Options{}
			dir := flags.String("data", "", "the `folder` for the city: new, empty, or an earlier demo's, which is made anew")
			still := flags.Bool("still", false, "leave out the simulated traffic")
			service.AddressFlags(flags, &o, service.Options{Console: service.DefaultConsole, FTP: "127.0.0.1:2121", FTPS: "127.0.0.1:2990", SFTP: "127.0.0.1:2222"})
			return func(ctx context.Context, env command.Env, _ []string) error {
				o.Log = slog.New(slog.NewTextHandler(env.Err, &slog.HandlerOptions{Level: slog.LevelWarn}))
				return run(ctx, env, o, *dir, *still)
			}
		}}
}

func run(ctx context.Context, env command.Env, o service.Options, dir string, still bool) error {
	made, err := prepareFolder(&dir)
	if err != nil {
		return err
	}
	if made {
		defer os.RemoveAll(dir)
	}
	o.Dir = dir
	city := newCity(dir)
	stop := func() {}
	defer func() { stop() }()
	hooks := service.Hooks{
		Before: func(ctx context.Context, s *service.Service) (err error) {
			if err = city.build(ctx, s); err == nil {
				stop, err = city.storeElsewhere(ctx, s)
			}
			if err != nil {
				return fmt.Errorf("build the sample city: %w", err)
			}
			fmt.Fprintf(env.Out, "Port Selwyn stands in %s; its credentials are in %s\n", dir, filepath.Join(dir, credentialsFile))
			return nil
		},
		Ready: func(ctx context.Context, s *service.Service) func() {
			if err := city.introduce(s); err != nil {
				fmt.Fprintln(env.Err, "known_hosts was not written:", err)
			}
			hall, close, err := openHall()
			if err == nil {
				err = city.askHall(ctx, s, hall)
			}
			if err != nil {
				fmt.Fprintln(env.Err, "the city hall's directory is not asked:", err)
			}
			harbour, leave, err := openHarbour()
			if err == nil {
				err = city.askHarbour(ctx, s, harbour)
			}
			if err != nil {
				fmt.Fprintln(env.Err, "the harbour office's single sign-on is not asked:", err)
			}
			web, mail, hush, err := city.listenToTellings()
			if err == nil {
				err = city.staff(ctx, s, web, mail)
			}
			if err != nil {
				fmt.Fprintln(env.Err, "the office did not do its morning's work:", err)
			}
			calm := func() {}
			if !still {
				calm = city.live(ctx, env, s)
			}
			return func() {
				calm()
				if close != nil {
					close()
				}
				if leave != nil {
					leave()
				}
				if hush != nil {
					hush()
				}
			}
		},
	}
	return service.Run(ctx, env, o, grace, hooks)
}

// prepareFolder makes the data folder and its name absolute. made says that it
// is a temporary one. A folder that is not a demo's is left alone.
func prepareFolder(dir *string) (made bool, err error) {
	if *dir == "" {
		*dir, err = os.MkdirTemp("", "urbankeep-demo-")
		return true, err
	}
	if *dir, err = filepath.Abs(*dir); err != nil {
		return false, err
	}
	entries, err := os.ReadDir(*dir)
	if err != nil && !os.IsNotExist(err) {
		return false, err
	}
	if len(entries) == 0 {
		return false, nil
	}
	if _, err := os.Stat(filepath.Join(*dir, credentialsFile)); err != nil {
		return false, fmt.Errorf("%s holds something that is not an earlier demo: choose an empty folder with -data", *dir)
	}
	return false, clear(*dir)
}
