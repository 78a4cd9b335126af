// Command plants tries the checker of histories: it builds the program with one bug after the other in it, and says which of
// them the checker found, after how long and by what. Names take some of them; -for bounds the time for each.
package main

import (
	"bytes"
	"flag"
	"fmt"
	"os"
	"os/exec"
	"regexp"
	"slices"
	"time"

	"urbankeep/tests/plants"
)

// found is what the checker says of a difference.
var found = regexp.MustCompile(`(?m)^\s+(?:Messages:\s+|soakers_test\.go:\d+: )(.{0,160})`)

func main() {
	most := flag.Duration("for", 5*time.Minute, "how `long` one may take")
	flag.Parse()
	missed, tried := 0, 0
	for _, p := range plants.All {
		if flag.NArg() > 0 && !slices.Contains(flag.Args(), p.Name) {
			continue
		}
		tried++
		args := []string{"test", "./tests/faults", "-count=1", "-timeout", "0", "-v", "-run", "HistoriesAgree", "-args", "-soak-for", most.String(), "-soak-plant", p.Name}
		if p.Clock {
			args = append(args, "-soak-clock")
		}
		began := time.Now()
		out, err := exec.Command("go", args...).CombinedOutput()
		took := time.Since(began).Round(time.Second)
		switch by := found.FindSubmatch(out); {
		case err != nil && by != nil && !bytes.Contains(out, []byte("# urbankeep/")):
			fmt.Printf("%-30s found in %4s, with building: %s\n", p.Name, took, by[1])
		case err != nil:
			missed++
			fmt.Printf("%-30s could not be tried:\n%s\n", p.Name, bytes.TrimSpace(out[max(0, len(out)-2000):]))
		default:
			missed++
			fmt.Printf("%-30s NOT found in %s: %s\n", p.Name, took, p.Says)
		}
	}
	if missed > 0 || tried == 0 {
		fmt.Printf("%d of %d were not found\n", missed, tried)
		os.Exit(1)
	}
}
