package demo

import (
	"context"
	"fmt"
	"math/rand/v2"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"urbankeep/internal/face/command"
	"urbankeep/internal/service"
)

// errand is something an actor does again and again with a real client.
type errand struct {
	every time.Duration // from one end to the next start, about
	tool  string
	args  func(turn int) []string
	input func(turn int) string
}

// live starts the traffic; the returned function ends it and waits.
func (c *city) live(ctx context.Context, env command.Env, s *service.Service) func() {
	ctx, cancel := context.WithCancel(ctx)
	var running sync.WaitGroup
	missing := map[string]bool{}
	for i, e := range c.errands(s) {
		if _, err := exec.LookPath(e.tool); err != nil {
			missing[e.tool] = true
			continue
		}
		running.Go(func() { e.repeat(ctx, rand.New(rand.NewPCG(seed, uint64(i)))) })
	}
	for tool := range missing {
		fmt.Fprintf(env.Err, "%s is not installed: the traffic that it makes is left out\n", tool)
	}
	return func() {
		cancel()
		running.Wait()
	}
}

// clientTime bounds one run of a client.
const clientTime = 2 * time.Minute

func (e errand) repeat(ctx context.Context, random *rand.Rand) {
	for turn := 0; ; turn++ {
		pause := e.every/2 + time.Duration(random.Int64N(int64(e.every)))
		select {
		case <-time.After(pause):
		case <-ctx.Done():
			return
		}
		bounded, stop := context.WithTimeout(ctx, clientTime)
		run := exec.CommandContext(bounded, e.tool, e.args(turn)...)
		if e.input != nil {
			run.Stdin = strings.NewReader(e.input(turn))
		}
		run.Run() // how it went stands in the trail
		stop()
	}
}

// errands are who does what. Uploads come from a folder outside the store.
func (c *city) errands(s *service.Service) []errand {
	outside := filepath.Join(c.dir, "outside")
	os.MkdirAll(outside, 0o700)
	flight, scan := filepath.Join(outside, "flight.laz"), filepath.Join(outside, "scan.las")
	for _, file := range []struct {
		name string
		size int64
	}{{flight, 3 << 20}, {scan, 16 << 20}} {
		if f, err := os.Create(file.name); err == nil {
			f.Truncate(file.size)
			f.Close()
		}
	}
	curl := func(account, url string, more ...string) func(int) []string {
		return func(turn int) []string {
			args := append([]string{"-sS", "-k", "--user", account + ":" + passwordOf(account)}, more...)
			return append(args, strings.ReplaceAll(url, "{turn}", fmt.Sprint(turn%12+1)))
		}
	}
	ftp, ftps := "ftp://"+s.Address("ftp"), "ftps://"+s.Address("ftps")
	list := []errand{
		{every: 14 * time.Second, tool: "curl", args: curl("print-bureau", ftp+"/plate-{turn}.tif", "--ssl-reqd", "--limit-rate", "700k", "-o", os.DevNull)},
		{every: 25 * time.Second, tool: "curl", args: curl("drone-contractor", ftps+"/live-{turn}.laz", "--limit-rate", "500k", "-T", flight)},
	}
	list = append(list, errand{every: 20 * time.Second, tool: "curl", args: func(turn int) []string {
		return []string{"-sS", "--user", "anonymous:reader@port-selwyn.example", "-o", os.DevNull, fmt.Sprintf("%s/2026-%02d.txt", ftp, turn%12+1)}
	}})
	for i, gauge := range []string{"gauge-north", "gauge-quay", "gauge-lock"} {
		file := filepath.Join(outside, gauge+".csv")
		upload := curl(gauge, "", "-T", file)
		list = append(list, errand{every: time.Duration(9+2*i) * time.Second, tool: "curl", args: func(turn int) []string {
			at := time.Now().UTC()
			os.WriteFile(file, reading(gauge, at), 0o600)
			args := upload(turn)
			args[len(args)-1] = ftp + "/level-" + at.Format("20060102-150405") + ".csv"
			return args
		}})
	}
	for i, crew := range []string{"crew-harbour", "crew-hillside"} {
		list = append(list, c.crewErrand(s, crew, scan, time.Duration(11+4*i)*time.Second))
	}
	return list
}

// crewErrand is a field crew that fetches a base map and sends a scan, on a slow line.
func (c *city) crewErrand(s *service.Service, crew, scan string, every time.Duration) errand {
	host, port, _ := net.SplitHostPort(s.Address("sftp"))
	return errand{every: every, tool: "sftp",
		args: func(int) []string {
			return []string{"-q", "-b", "-", "-l", "24000", "-P", port, "-i", filepath.Join(c.dir, "keys", crew), "-o", "IdentitiesOnly=yes",
				"-o", "StrictHostKeyChecking=no", "-o", "UserKnownHostsFile=" + os.DevNull, crew + "@" + host}
		},
		input: func(turn int) string {
			return fmt.Sprintf("ls /basemaps\nget /basemaps/canal.gpkg %s\nput %s /scans/today-%02d.las\n", os.DevNull, scan, turn%6+1)
		}}
}

func passwordOf(account string) string {
	for _, who := range citizens {
		if who.name == account {
			return who.password
		}
	}
	return ""
}
