package firststeps_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urbankeep/internal/api"
	"urbankeep/tests/testkit"
	"urbankeep/tests/testkit/counterpart"
)

// mostCommands is how many commands an administrator needs at the most for what newcomers want.
const mostCommands = 4

// What newcomers want is there after few commands, none of which has to be typed twice; who it is for gets on at the first try.
func TestWhatNewcomersWantTakesFewCommands(t *testing.T) {
	file := filepath.Join(t.TempDir(), "plan.txt")
	require.NoError(t, os.WriteFile(file, []byte("a plan"), 0o600))
	const netPassword = "gauges-of-selwyn-7"
	for name, way := range map[string]func(t *testing.T, k *testkit.Keep, do func(given, line string) string){
		"a partner uploads": func(t *testing.T, k *testkit.Keep, do func(given, line string) string) {
			do(netPassword+"\n", "account add partner -home files:{account} -password")
			out, err := testkit.Run(t, "", "curl", "-sS", "-k", "--ssl-reqd", "-u", "partner:"+netPassword, "-T", file, "ftp://"+k.Address("ftp")+"/")
			require.NoError(t, err, out)
			assert.Equal(t, "a plan", string(testkit.OnDisk(t, filepath.Join(k.Home("partner"), "plan.txt"))))
		},
		"somebody without an account leaves a file": func(t *testing.T, k *testkit.Keep, do func(given, line string) string) {
			do("", "account add crew -home files:{account}")
			said := do("", "pass add crew / -drop")
			at := said[strings.Index(said, "/pass/"):]
			out, err := testkit.Run(t, "", "curl", "-sS", "--fail-with-body", "-T", file, "http://"+k.Address("web")+strings.Fields(at)[0])
			require.NoError(t, err, out)
			assert.Equal(t, "a plan", string(testkit.OnDisk(t, filepath.Join(k.Home("crew"), "plan.txt"))))
		},
		"a mail tells of an upload": func(t *testing.T, k *testkit.Keep, do func(given, line string) string) {
			box := testkit.MailBox(t)
			k.Account("crew")
			do("", "mail set "+box.Address+" -security none -from files@portselwyn.example")
			do("", "receiver add operations ilse@portselwyn.example")
			do("", "notice add readings -events upload -receivers operations")
			out, err := testkit.Run(t, "", "curl", "-sS", "-u", "crew:"+testkit.Password, "-T", file, "http://"+k.Address("web")+"/dav/")
			require.NoError(t, err, out)
			assert.Contains(t, box.Wait(1)[0].Text, "plan.txt")
		},
		"a disk to which files are only added": func(t *testing.T, k *testkit.Keep, do func(given, line string) string) {
			do(netPassword+"\n", "account add crew -home files:{account} -rights add-only -password")
			for _, step := range [][]string{{"-X", "PUT"}, {"-T", file}} { // as a disk saves: an empty file, then what is in it
				out, err := testkit.Run(t, "", "curl", append([]string{"-sS", "--fail-with-body", "-u", "crew:" + netPassword, "http://" + k.Address("web") + "/dav/plan.txt"}, step...)...)
				require.NoError(t, err, out)
			}
			assert.Equal(t, "a plan", string(testkit.OnDisk(t, filepath.Join(k.Home("crew"), "plan.txt"))))
		},
		"people of a directory sign in": func(t *testing.T, k *testkit.Keep, do func(given, line string) string) {
			city := counterpart.StartSlapd(t, counterpart.Person("ann", netPassword))
			do("", "group add crews -home files:{account} -rights full")
			do(counterpart.LookUpPassword+"\n", "source add city "+city.TLS+" -bind-as "+city.LookUp+" -base "+counterpart.People+" -trust "+city.Trust+" -makes -group crews")
			do("", "route add * city own")
			out, err := testkit.Run(t, "", "curl", "-sS", "-k", "--ssl-reqd", "-u", "ann:"+netPassword, "-T", file, "ftp://"+k.Address("ftp")+"/")
			require.NoError(t, err, out)
		},
		"files lie in an object store": func(t *testing.T, k *testkit.Keep, do func(given, line string) string) {
			swift := counterpart.StartSwift(t, "city")
			do(counterpart.SwiftSecret+"\n", "store add cloud -kind object -endpoint "+swift.Site.Endpoint+" -bucket "+swift.Site.Bucket+" -user "+swift.Site.User)
			do(netPassword+"\n", "account add crew -home cloud:{account} -password")
			out, err := testkit.Run(t, "", "curl", "-sS", "-k", "--ssl-reqd", "-u", "crew:"+netPassword, "-T", file, "ftp://"+k.Address("ftp")+"/")
			require.NoError(t, err, out)
			var records []api.AuditRecord
			k.Must(&records, "audit", "-account", "crew", "-action", "upload", "-outcome", "done")
			assert.Len(t, records, 1)
		},
	} {
		t.Run(name, func(t *testing.T) {
			k := testkit.Start(t)
			n := 0
			way(t, k, func(given, line string) string {
				n++
				out, errs, status := k.CLIWith(given, strings.Fields(line)...)
				require.Zero(t, status, "%s: %s", line, errs)
				return out + errs
			})
			assert.LessOrEqual(t, n, mostCommands)
			t.Logf("%d commands", n)
		})
	}
}
