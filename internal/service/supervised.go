package service

import (
	"context"
	"net"
	"time"

	"github.com/coreos/go-systemd/v22/activation"
	"github.com/coreos/go-systemd/v22/daemon"
)

// supervised tells a supervisor that speaks the notification protocol of systemd
// (sd_notify(3)) that the service is ready, and until ctx ends, as often as it wants to
// hear it, that the service still answers.
func (s *Service) supervised(ctx context.Context) {
	daemon.SdNotify(false, daemon.SdNotifyReady)
	every, err := daemon.SdWatchdogEnabled(false)
	if err != nil || every == 0 {
		return
	}
	s.serving.Go(func() {
		tick := time.NewTicker(every / 3)
		defer tick.Stop()
		for {
			select {
			case <-ctx.Done():
				return
			case <-tick.C:
			}
			if _, err := s.DB.Setting(ctx, "watchdog"); err == nil { // the records answer
				daemon.SdNotify(false, daemon.SdNotifyWatchdog)
			}
		}
	})
}

// leaving tells the supervisor that the service stops.
func leaving() { daemon.SdNotify(false, daemon.SdNotifyStopping) }

// handed are the sockets that a supervisor has opened for the service (sd_listen_fds(3)),
// by the names that it gave them: those of listeners, and console.
func handed() (map[string]net.Listener, error) {
	named, err := activation.ListenersWithNames()
	sockets := map[string]net.Listener{}
	for name, some := range named {
		for i, one := range some {
			if i == 0 {
				sockets[name] = one
			} else {
				one.Close()
			}
		}
	}
	return sockets, err
}
