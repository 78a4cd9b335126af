package house_test

import (
	"crypto/sha256"
	"database/sql"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urbankeep/internal/api"
	"urbankeep/tests/testkit"
)

// deedsOf are what an operator does, one after the other. The sign says how it ends: "=" it is done, with exactly one record ("=3":
// three); "!" it is refused; "~" there was nothing to change; "?" it tells only. Words between <> are files; · is a blank.
const deedsOf = `
= group add crews -home files:{group}/{account} -rights full -bin-time 7d
! group add crews -rights full
! group add bad/name
! group add other -rights nosuch
= account add ann -group crews
= account add ben -group crews -mount /maps=files:maps,ro
! account add ann -group crews
! account add kim -group nosuch
! account add kim -group crews -quota-bytes -5
! account add kim -group crews -allow 300.1.1.1
= account set ann -note one -max-sessions 3
~ account set ann -note one -max-sessions 3
! account set ann -note two -max-sessions -1
! account set ann -note two -group nosuch
! account set nobody -note two
! account set ann -note two -mount /in=nosuch:in
= account set ann -mount /in=files:in,bytes=1MiB
! group set crews -note new -unmount /
= group set crews -max-sessions 9
~ group set crews -max-sessions 9
= account clone ann cas
! account clone ann ben
= key add ann <key>
! key add ann <key>
! key add ann <nokey>
! key add nobody <key>
= key set ann 1 -label laptop
! key set ann 7 -label laptop
= key add ben <two>
! key add cas <key-and-weak>
=2 password-link ann
= pass add ann / -note for·the·printer
! pass add ann /nosuch
! pass add ann / -until yesterday
! pass add nobody /
! pass end nosuch
=1 pass end -account ann
= account suspend ann
~ account suspend ann
= account resume ann
~ account resume ann
! account suspend nobody
= shelf add partner <key>
! shelf add partner <key>
! shelf add other <nokey>
= shelf attach partner ben
! shelf attach partner nobody
! shelf attach nosuch ben
! shelf remove partner
= shelf set partner -note new
~ shelf set partner -note new
= shelf detach partner ben
= shelf remove partner
= key remove ann 1
! key remove ann 1
= store add plates <folder>
! store add plates <folder2>
! store add again <folder>
! store add inside <folder>/below
= store set plates -durability process
~ store set plates -durability process
! store set plates -durability nosuch
! store set nosuch -durability power
? store check plates
! store check nosuch
= account set ben -mount /plates=plates:ben
! store remove plates
! store move plates
= account set ben -unmount /plates
= store remove plates
! store grounds nosuch
= limits set -sessions 5000
! limits set -sessions -4
= gate set -deny 192.0.2.0/24
~ gate set -deny 192.0.2.0/24
! gate set -allow nonsense
! gate set -allow 198.51.100.7/32 -deny nonsense
= retention set -days 400
! retention set -days 0
! retention set -days 300 -kind nosuch=5
= service set -name Port·Selwyn -host keep.example
! service set -host not·a·host
= collector set udp://127.0.0.1:9
! collector set http://127.0.0.1:9
! collector set tls://127.0.0.1:9 -trust <nokey>
= collector remove
~ collector remove
= audit durability process
~ audit durability process
! audit durability nosuch
= mail set 127.0.0.1:9 -from keep@example.com
! mail set 127.0.0.1:9 -from nonsense
= receiver add operations http://127.0.0.1:9/hook -private
! receiver add operations http://127.0.0.1:9/hook -private
! receiver add other ftp://127.0.0.1:9/hook
= notice add house -events sign-in-refused -receivers operations
! notice add house -events sign-in-refused -receivers operations
! notice add more -events nosuch -receivers operations
! notice add more -events upload -receivers nosuch
= notice set house -events sign-in-refused,lockout
! notice set house -events nosuch
! receiver remove operations
= notice remove house
! notice remove house
= receiver remove operations
= source add tower 127.0.0.1:9 < a-secret-of-length
! source add tower 127.0.0.1:9 < a-secret-of-length
! source add other http://127.0.0.1:9 < a-secret-of-length
= route add *@tower tower
! route add *@x nosuch
! source remove tower
= route remove *@tower
! route remove *@tower
= source remove tower
= operator add otto -role owner < Strong-enough-20-words
= operator add ilse -role manager < Strong-enough-19-words
! operator add ilse -role manager < Strong-enough-19-words
! operator add kim -role nosuch < Strong-enough-19-words
! operator add kim -role auditor < short
= operator set ilse -role auditor
~ operator set ilse -role auditor
! operator set ilse -role nosuch
! operator set nobody -role auditor
= token add ilse -label nightly
! token add nobody -label nightly
! access end nosuch
= operator remove ilse
! operator remove ilse
! operator remove otto
= listener set sftp -banner hello
~ listener set sftp -banner hello
! listener set sftp -max-sessions -2
! listener set sftp -banner again -address nonsense
! listener set nosuch -banner again
= listener add spare sftp 127.0.0.1:0
! listener add spare sftp 127.0.0.1:0
! listener add other gopher 127.0.0.1:0
= listener stop spare
= listener start spare
= listener remove spare
! listener remove spare
= hostkey make ecdsa
! hostkey make nosuch
! hostkey remove nosuch
! hostkey use nosuch
= certificate renew
! certificate remove nosuch
! certificate import <nokey> <nokey>
! certificate follow <nokey> <nokey>
=3 account import <roster>
! account import <bad roster>
= quota recount files:in
! quota recount files:nosuch
! transfer end nosuch
! session end nosuch
! lockout lift nosuch
! held accept nosuch
! lock break nosuch
! undo 99999
= undo <limits>
! undo <limits>
= account delete cas
! account delete cas
! group delete crews
? report refusals
! explain ann upload /nosuch/../
? handover ann
`

// quiet are tables that may change without anybody's deed: what is counted, seen or kept for a while.
var quiet = regexp.MustCompile(`^(audit_.*|traffic_.*|place.*|room|sqlite_.*|trouble|told|leaver)$`)

// Whatever an operator asks for is done whole, with one record, or not at all, with nothing changed.
func TestWhatIsRefusedChangesNothingAndWhatIsDoneHasOneRecord(t *testing.T) {
	k := testkit.Start(t)
	folder := t.TempDir()
	write := func(name, text string) string {
		file := filepath.Join(folder, name)
		require.NoError(t, os.WriteFile(file, []byte(text), 0o600))
		return file
	}
	one, two := filepath.Join(folder, "one"), filepath.Join(folder, "two")
	for _, key := range []*string{&one, &two} {
		out, err := testkit.Run(t, "", "ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", *key)
		require.NoError(t, err, out)
		*key += ".pub"
	}
	both, err := os.ReadFile(two)
	require.NoError(t, err)
	words := strings.NewReplacer("<key>", one, "<two>", two, "<nokey>", write("nokey", "nothing\n"), "<key-and-weak>", write("mixed", string(both)+"ssh-rsa AAAAB3NzaC1yc2EAAAADAQABAAAAgQ==\n"),
		"<folder>", filepath.Join(folder, "plates"), "<folder2>", filepath.Join(folder, "other"),
		"<roster>", write("roster.csv", "account,groups\nroster-a,crews\nroster-b,crews\n"), "<bad roster>", write("bad.csv", "account,groups\nroster-c,crews\nroster-d,nosuch\n"))
	require.NoError(t, os.Mkdir(filepath.Join(folder, "plates"), 0o700))
	require.NoError(t, os.Mkdir(filepath.Join(folder, "other"), 0o700))

	db, err := sql.Open("sqlite", "file:"+filepath.Join(k.Dir, "urbankeep.db")+"?mode=ro")
	require.NoError(t, err)
	defer db.Close()
	limits := ""
	for line := range strings.Lines(deedsOf) {
		sign, ask, is := strings.Cut(strings.TrimSpace(line), " ")
		if !is {
			continue
		}
		ask, stdin, _ := strings.Cut(ask, " < ")
		if strings.Contains(ask, "<limits>") && limits == "" {
			limits = fmt.Sprint(k.NewestChange("limits").ID)
		}
		ask = strings.Replace(ask, "<limits>", limits, 1)
		args := strings.Fields(words.Replace(ask))
		for i := range args {
			args[i] = strings.ReplaceAll(args[i], "·", " ")
		}
		deed(t, k, db, sign, ask, "local", func() (bool, string) {
			out, errs, status := k.CLIWith(stdin+"\n", args...)
			return status == 0, out + errs
		})
	}
}

// callsOf are what no command asks for, and what none would ask for so: fields of which one is wrong, names that are none, bodies that
// are too much. The signs are those of deedsOf; "=0": what stands in no record, since it is about whoever asks.
const callsOf = `
=0 PUT /setup-steps/listeners {"state":"skipped"}
! PUT /setup-steps/nosuch {"state":"skipped"}
! PUT /setup-steps/listeners {"state":"nosuch"}
? POST /password-tests {"password":"harbour-tide-1","account":"ann"}
! POST /password-tests {"password":7}
= POST /accounts {"name":"ann","password":"Strong-enough-21-words","mounts":["/=files:ann"],"grants":["/=full"]}
! POST /accounts {"name":"ben","password":"Strong-enough-21-words","mounts":["/=files:ben","/=files:ben2"]}
! POST /accounts {"name":"ben","groups":["nosuch"],"key":"nothing"}
! POST /accounts {"name":"ben","nosuch":1}
! POST /accounts [{"name":"ben"}]
! POST /accounts {"name":"ben"}{"name":"cas"}
! POST /accounts {"name":"ben","note":"<long>"}
! PATCH /accounts/ann {"note":"x","settings":{"maxSessions":-1}}
! PATCH /accounts/ann {"note":"x","groups":["nosuch"]}
! PATCH /accounts/ann {"note":"x","password":"short"}
! PATCH /accounts/ann {"note":"x","nosuch":true}
~ PATCH /accounts/ann {}
= PATCH /accounts/ann {"note":"x"}
~ PATCH /accounts/ann {"note":"x"}
= POST /accounts/ann/key-pairs {"label":"laptop"}
! POST /accounts/ann/key-pairs {"label":"x","type":"nosuch"}
! POST /accounts/nobody/key-pairs {"label":"x"}
~ DELETE /accounts/ann/codes
! DELETE /accounts/nobody/passes
= POST /accounts/ann/rehearsal
! POST /accounts/ann/rehearsal?pass=nosuch
! POST /notice-dry-runs {"name":"x","events":["upload"],"receivers":["nosuch"]}
! POST /notice-dry-runs {"name":"x","events":["nosuch"]}
! PUT /routes [{"pattern":"*@x","sources":["own"]},{"pattern":"*@y","sources":["nosuch"]}]
! POST /account-roster {"text":"account,nosuch\nroster-a,1\n"}
! PATCH /listeners/sftp {"banner":"x","address":"nonsense"}
! PATCH /stores/files {"hashes":true,"durability":"nosuch"}
! PATCH /limits {"sessions":100,"failuresPerAddress":-1}
! PATCH /service {"name":"x","host":"not a host"}
! PUT /gate {"allow":["192.0.2.0/24"],"deny":["192.0.2.0/24"]}
! PUT /audit/retention {"days":300,"kinds":{"nosuch":1}}
! POST /receivers {"name":"r","url":"http://127.0.0.1:9/","private":true,"headers":[{"name":"bad name","value":"x"}]}
! POST /operators {"name":"otto","role":"owner","password":"short"}
! POST /operators {"name":"otto","role":"owner","password":"Strong-enough-21-words","nosuch":1}
! POST /me/password {"now":"not it","next":"Strong-enough-22-words"}
! POST /me/passkeys/ask {"now":"not it"}
! POST /me/passkeys {"id":"nosuch","label":"x","response":{}}
! DELETE /me/passkeys/nosuch
? POST /me/codes
! PUT /me/codes {"secret":"AAAA","code":"000000"}
~ DELETE /me/codes {"code":"000000"}
= POST /operators/kate/tokens {"label":"nightly","days":1}
! POST /operators/kate/tokens {"label":"nightly","days":0}
! POST /operators/kate/tokens {"label":"nightly","days":1,"role":"nosuch"}
= POST /me/password {"now":"<password>","next":"Strong-enough-22-words"}
`

// What is asked for over the API is done or refused as what commands ask for.
func TestACallIsDoneWithOneRecordOrChangesNothing(t *testing.T) {
	k := testkit.Start(t)
	k.AddOperator("kate", "owner")
	kate := testkit.SignedIn(t, k, "kate")
	db, err := sql.Open("sqlite", "file:"+filepath.Join(k.Dir, "urbankeep.db")+"?mode=ro")
	require.NoError(t, err)
	defer db.Close()
	words := strings.NewReplacer("<long>", strings.Repeat("x", 1<<20), "<password>", testkit.Password)
	for line := range strings.Lines(callsOf) {
		sign, ask, is := strings.Cut(strings.TrimSpace(line), " ")
		if !is {
			continue
		}
		parts := append(strings.SplitN(ask, " ", 3), "")
		deed(t, k, db, sign, ask, "kate", func() (bool, string) {
			request, err := http.NewRequest(parts[0], kate.Base+"/api/v1"+parts[1], strings.NewReader(words.Replace(parts[2])))
			require.NoError(t, err)
			request.Header.Set("Content-Type", "application/json")
			response, err := kate.HTTP.Do(request)
			require.NoError(t, err)
			defer response.Body.Close()
			text, err := io.ReadAll(response.Body)
			require.NoError(t, err)
			assert.Less(t, response.StatusCode, 500, "%s: %s", ask, text)
			return response.StatusCode < 300, fmt.Sprintf("%d %.1000s", response.StatusCode, text)
		})
	}
}

// deed holds what was asked for, and how that ended, against what is different after it.
func deed(t *testing.T, k *testkit.Keep, db *sql.DB, sign, ask, operator string, do func() (ok bool, said string)) {
	records := func() (found []api.AuditRecord) {
		k.Must(&found, "audit", "-operator", operator, "-most", "1000")
		return found
	}
	before, had := settingsOf(t, k.Dir, db), len(records())
	ok, said := do()
	said = ask + "\n" + said
	after, has := settingsOf(t, k.Dir, db), records()
	var told []string
	for _, r := range has[:max(0, len(has)-had)] {
		told = append(told, fmt.Sprint(r.Action, " ", r.Target, " ", r.Outcome))
	}
	switch sign[0] {
	case '!':
		assert.False(t, ok, said)
		assert.Empty(t, differing(before, after), "refused, and changed: %s", said)
		assert.Empty(t, told, said)
	case '~', '?':
		assert.True(t, ok, said)
		assert.Empty(t, differing(before, after), "nothing was to be changed: %s", said)
		assert.Empty(t, told, said)
	default:
		want := 1
		fmt.Sscan(sign[1:], &want)
		assert.True(t, ok, said)
		assert.Len(t, told, want, said)
	}
}

// settingsOf is all that the service knows, but for what may change by itself: the rows of its tables, and its keys.
func settingsOf(t *testing.T, dir string, db *sql.DB) map[string]string {
	all := map[string]string{}
	var names []string
	rows, err := db.Query("SELECT name FROM sqlite_master WHERE type = 'table' ORDER BY name")
	require.NoError(t, err)
	for rows.Next() {
		var name string
		require.NoError(t, rows.Scan(&name))
		if !quiet.MatchString(name) {
			names = append(names, name)
		}
	}
	require.NoError(t, rows.Err())
	for _, name := range names {
		rows, err := db.Query("SELECT * FROM " + name)
		require.NoError(t, err)
		columns, err := rows.Columns()
		require.NoError(t, err)
		for rows.Next() {
			values, into := make([]any, len(columns)), make([]any, len(columns))
			for i := range values {
				into[i] = &values[i]
			}
			require.NoError(t, rows.Scan(into...))
			if name == "setting" && regexp.MustCompile(`^(audit-signed|running|collector-.*|traffic.*|signin.*|guard.*)$`).MatchString(fmt.Sprint(values[0])) {
				continue
			}
			text, err := json.Marshal(values)
			require.NoError(t, err)
			all[name] += string(text) + "\n"
		}
		require.NoError(t, rows.Err())
	}
	for _, keys := range []string{"hostkeys", "tls", "storekeys"} {
		entries, _ := os.ReadDir(filepath.Join(dir, keys))
		for _, e := range entries {
			text, _ := os.ReadFile(filepath.Join(dir, keys, e.Name()))
			all[keys] += e.Name() + fmt.Sprintf(" %x\n", sha256.Sum256(text))
		}
	}
	return all
}

// differing are the rows that are on one side only.
func differing(before, after map[string]string) (rows []string) {
	for _, side := range []struct {
		sign    string
		is, not map[string]string
	}{{"-", before, after}, {"+", after, before}} {
		for table, text := range side.is {
			for row := range strings.Lines(text) {
				if !strings.Contains("\n"+side.not[table], "\n"+row) {
					rows = append(rows, fmt.Sprintf("%s %s %.300s", side.sign, table, row))
				}
			}
		}
	}
	return rows
}
