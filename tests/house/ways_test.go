package house_test

import (
	"encoding/json"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urbankeep/internal/api"
	"urbankeep/internal/keep"
	"urbankeep/tests/testkit"
)

// A mount is there over the protocols that it names, to read where that is said, and the explanation says the same: each right in
// each mount over each protocol is tried by real clients.
func TestAMountIsThereOverItsProtocolsOnly(t *testing.T) {
	k := testkit.Start(t)
	k.Must(nil, "account", "add", "ann", "-protocols", "all,scp", "-mount", "/=files:ann,protocols=ftp+ftps+sftp+dav+portal:ro", "-mount", "/maps=files:maps,protocols=sftp+ftp:ro", "-mount", "/web=files:web,protocols=portal+dav",
		"-mount", "/read=files:read,ro,protocols=ftps", "-mount", "/all=files:all", "-grant", "/=full")
	k.Must(nil, "account", "set", "ann", "-generate")
	may := func(right, at, over string) bool {
		var answer api.Explanation
		out, _, _ := k.CLI("explain", "ann", right, at, "-over", over, "-json")
		require.NotEmpty(t, out)
		require.NoError(t, json.Unmarshal([]byte(out), &answer), out)
		return answer.Allowed
	}
	var tried api.Rehearsal
	k.Must(&tried, "rehearse", "ann")
	assert.True(t, tried.Agrees, "%v", tried.Tries)
	seen := map[string]bool{}
	for _, one := range tried.Tries {
		right := one.Does
		if !slices.Contains([]string{"list", "download", "upload", "overwrite", "mkdir"}, right) {
			continue
		}
		assert.Equal(t, one.Observed == "allowed", may(right, one.Path, string(one.Protocol)), "%s %s over %s: %s, %s", one.Does, one.Path, one.Protocol, one.Observed, one.Why)
		seen[string(one.Protocol)+" "+right] = true
	}
	for _, protocol := range []keep.Protocol{keep.FTP, keep.FTPS, keep.SFTP, keep.Portal, keep.WebDAV} {
		assert.True(t, seen[string(protocol)+" upload"], "%s was tried", protocol)
	}
	for over, want := range map[string]map[string]bool{
		"/maps/x": {"sftp": true, "scp": true, "ftp": false, "ftps": false, "portal": false, "dav": false},
		"/web/x":  {"sftp": false, "scp": false, "ftp": false, "portal": true, "dav": true},
		"/all/x":  {"sftp": true, "scp": true, "ftp": true, "portal": true, "dav": true},
		"/read/x": {"sftp": false, "ftps": false},
		"/x":      {"sftp": true, "ftp": true, "portal": false, "dav": true},
	} {
		for protocol, may1 := range want {
			assert.Equal(t, may1, may("upload", over, protocol), "%s over %s", over, protocol)
		}
	}
	assert.True(t, may("download", "/maps/x", "ftp"))
	assert.False(t, may("download", "/maps/x", "ftps"))

	// The same with clients of their own, where the rehearsal had nothing to try.
	file, _ := testkit.File(t, 100)
	key := k.Key("ann")
	for _, target := range []string{"/web/x", "/read/x"} {
		_, err := k.SFTP("ann", key, "put "+file+" "+target)
		assert.Error(t, err, target)
		_, err = testkit.Run(t, "", "scp", append(append([]string{"-O"}, k.SSHOptions(key)...), file, "ann@127.0.0.1:"+target)...)
		assert.Error(t, err, target)
	}
	out, err := testkit.Run(t, "", "scp", append(append([]string{"-O"}, k.SSHOptions(key)...), file, "ann@127.0.0.1:/maps/x")...)
	require.NoError(t, err, out)
	assert.FileExists(t, filepath.Join(k.Dir, "files", "maps", "x"))
	list, err := k.SFTP("ann", key, "ls -1 /")
	require.NoError(t, err)
	assert.Equal(t, []string{"/all", "/maps"}, strings.Fields(list[strings.LastIndex(list, "ls -1 /")+7:]))

	// A pass gives what is there over passes.
	assert.Contains(t, k.Refused("pass", "add", "ann", "/maps"), "more than the account may do")
	k.Must(nil, "pass", "add", "ann", "/all")

	// A change counts at once, for who is in as well.
	for _, wrong := range []string{"protocols=", "protocols=gopher", "protocols=sftp+sftp:ro", "protocols=scp", "protocols=sftp:rw"} {
		_, _, status := k.CLI("account", "set", "ann", "-mount", "/maps=files:maps,"+wrong)
		assert.NotZero(t, status, wrong)
	}
	k.Must(nil, "account", "set", "ann", "-mount", "/maps=files:maps,protocols=ftps")
	assert.False(t, may("list", "/maps", "sftp"))
	assert.Contains(t, k.Must(nil, "account", "show", "ann"), "ftps")
	assert.Contains(t, k.Must(nil, "handover", "ann"), "over ftps only")
}
