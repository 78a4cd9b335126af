package service

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"io"
	"log/slog"
	"net"
	"os"
	"os/signal"
	"strconv"
	"strings"
	"syscall"
	"time"

	"urbankeep/internal/face/command"
	"urbankeep/internal/keep"
	"urbankeep/internal/protocol/wire"
)

// Command is "serve".
func Command() *command.Command {
	return &command.Command{Name: "serve", Short: "Run the service",
		Long: "The addresses of the listeners are remembered in the data folder: give them once. At the\nfirst start a one-time link for making the first operator is printed.",
		Flags: func(flags *flag.FlagSet) func(context.Context, command.Env, []string) error {
			o := Options{}
			dir := command.DataFlag(flags)
			grace := flags.Duration("grace", 30*time.Second, "how long running transfers may go on after SIGTERM")
			AddressFlags(flags, &o, Options{})
			flags.Func("listener", "`NAME=ADDRESS`: another address for a listener, of any name; NAME=off stops it. May be given several times", func(text string) error {
				name, address, ok := strings.Cut(text, "=")
				if !ok || name == "" || address == "" {
					return errors.New("use NAME=ADDRESS, as in sftp=:2222, or NAME=off")
				}
				if o.Listeners == nil {
					o.Listeners = map[string]string{}
				}
				o.Listeners[name] = address
				return nil
			})
			flags.BoolVar(&o.AcceptLoss, "accept-loss", false, "go on although records or keys of the data folder are gone; what is gone is made anew")
			return func(ctx context.Context, env command.Env, _ []string) error {
				o.Dir = *dir
				o.Log = slog.New(slog.NewTextHandler(env.Err, nil))
				return Run(ctx, env, o, *grace, Hooks{})
			}
		}}
}

// AddressFlags declares the flags that say where to listen.
func AddressFlags(flags *flag.FlagSet, o *Options, usual Options) {
	flags.StringVar(&o.Console, "console", usual.Console, "`address` of the console and the API: the listener web (at first "+DefaultConsole+")")
	flags.StringVar(&o.FTP, "ftp", usual.FTP, "`address` of FTP with explicit TLS (at first "+DefaultFTP+"), or off")
	flags.StringVar(&o.FTPS, "ftps", usual.FTPS, "`address` of FTP with implicit TLS (at first "+DefaultFTPS+"), or off")
	flags.StringVar(&o.SFTP, "sftp", usual.SFTP, "`address` of SFTP (at first "+DefaultSFTP+"), or off")
	flags.Func("passive", fmt.Sprintf("`LOW-HIGH`: the ports of passive FTP, half for each of the two listeners made at first start (at first %d-%d)", DefaultPassiveLow, DefaultPassiveHigh),
		func(text string) error { return parsePassive(text, o) })
}

func parsePassive(text string, o *Options) error {
	low, high, ok := strings.Cut(text, "-")
	from, err1 := strconv.Atoi(low)
	to, err2 := strconv.Atoi(high)
	if !ok || err1 != nil || err2 != nil || from < 1 || to > 65535 || from >= to {
		return fmt.Errorf("use LOW-HIGH with two ports or more from 1 to 65535, as in 47000-47199")
	}
	o.PassiveLow, o.PassiveHigh = from, to
	return nil
}

// Hooks are what else is to happen on the way. Nil ones don't.
type Hooks struct {
	Before func(context.Context, *Service) error  // before anything listens
	Ready  func(context.Context, *Service) func() // once everything does; gives what ends it
}

// Run serves until SIGTERM, SIGHUP (its terminal went), an interrupt or the end of ctx. When every listener
// accepts it prints the line that begins with "ready".
func Run(ctx context.Context, env command.Env, o Options, grace time.Duration, hooks Hooks) error {
	ctx, stop := signal.NotifyContext(ctx, os.Interrupt, syscall.SIGTERM, syscall.SIGHUP)
	defer stop()
	s, err := Open(ctx, o)
	if err != nil {
		return err
	}
	if hooks.Before != nil {
		err = hooks.Before(ctx, s)
	}
	if err == nil {
		err = s.Start(ctx)
	}
	if err == nil {
		err = s.attend(ctx, env, hooks)
	}
	stop() // a second signal ends the program at once
	if serr := s.stopWithin(grace); err == nil {
		err = serr
	}
	return err
}

// endPatience is how long the service may take to end after its grace.
const endPatience = 10 * time.Second

// stopWithin is Stop, which ends whatever hangs: a store that does not answer holds nobody up for good.
func (s *Service) stopWithin(grace time.Duration) error {
	graceful, cancel := context.WithTimeout(context.Background(), grace)
	defer cancel()
	ended := make(chan error, 1)
	go func() { ended <- s.Stop(graceful) }()
	select {
	case err := <-ended:
		return err
	case <-time.After(grace + endPatience):
	}
	s.Trail.Note(keep.AuditRecord{Action: keep.ServiceStop, Outcome: keep.Failed, Reason: keep.Failure, Detail: "something did not come to its end within the grace, and was left: a store that does not answer, perhaps"})
	s.log.Error("something did not come to its end within the grace, and is left: a store that does not answer, perhaps")
	return errors.New("something did not come to its end within the grace, and was left; the next start puts right what was cut off")
}

// attend says that the service is ready and waits for its end.
func (s *Service) attend(ctx context.Context, env command.Env, hooks Hooks) error {
	if hooks.Ready != nil {
		defer hooks.Ready(ctx, s)()
	}
	if err := s.announce(ctx, env.Out); err != nil {
		return err
	}
	s.supervised(ctx)
	defer leaving()
	select {
	case <-ctx.Done():
		return nil
	case err := <-s.Failed():
		return err
	}
}

// opened says what a first start has opened, and to whom.
func (s *Service) opened() string {
	var all, here []string
	put := func(name string, address net.Addr) {
		if ip := wire.IP(address); ip.IsLoopback() {
			here = append(here, name)
		} else {
			all = append(all, name)
		}
	}
	s.posts.mu.Lock()
	for _, o := range s.posts.open {
		put(o.Name, o.socket.Addr())
	}
	s.posts.mu.Unlock()
	text := "data folder: " + s.dir + "\n"
	if len(here) > 0 {
		text += "open to this machine only: " + strings.Join(here, ", ") + "\n"
	}
	if len(all) > 0 {
		text += "open to every machine that reaches this one: " + strings.Join(all, ", ") + "; urbankeep gate set -allow NETWORKS says who may connect\n"
	}
	return text
}

func (s *Service) announce(ctx context.Context, w io.Writer) error {
	link, err := s.SetupLink(ctx)
	if err != nil {
		return err
	}
	if link != "" {
		fmt.Fprintf(w, "first operator: open this link once, within 24 hours:\n  %s\n%s", link, s.opened())
	}
	at, url := s.consoleURL()
	if url == "" {
		url = "(no web listener serves it)"
	}
	_, err = fmt.Fprintf(w, "ready: console %s%s\n", url, s.addresses(at))
	return err
}
