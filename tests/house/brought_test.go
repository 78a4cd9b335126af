package house_test

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urbankeep/internal/api"
	"urbankeep/tests/testkit"
)

// crypted is a hash of the machine's own crypt(3).
func crypted(t *testing.T, setting string) string {
	out, err := exec.Command("perl", "-e", "print crypt($ARGV[0], $ARGV[1])", testkit.Password, setting).Output()
	require.NoError(t, err)
	require.Greater(t, len(out), 20, setting)
	return string(out)
}

// Users of the machine are taken over with their passwords, which are turned into hashes of ours when they first sign in.
func TestAccountsAreTakenOverWithTheirPasswords(t *testing.T) {
	k := testkit.Start(t)
	k.Must(nil, "group", "add", "crews", "-home", "files:{account}", "-rights", "full")
	hashes := map[string]string{"sha512": crypted(t, "$6$saltsalt$"), "sha256": crypted(t, "$5$rounds=5000$saltsalt$"), "yescrypt": crypted(t, "$y$j9T$F5Jx5fExrKuPp53xLKQ..1$"),
		"bcrypt": crypted(t, "$2b$08$abcdefghijklmnopqrstuu"), "md5": crypted(t, "$1$saltsalt$"), "locked": "!" + crypted(t, "$6$saltsalt$")}
	etc := t.TempDir()
	var passwd, shadow strings.Builder
	for name, hash := range hashes {
		passwd.WriteString(name + ":x:1001:2000:" + name + " the surveyor,room 7:/home:/bin/sh\n")
		shadow.WriteString(name + ":" + hash + ":19000:0:99999:7:::\n")
	}
	passwd.WriteString("daemon:x:2:2000::/:/bin/false\nelse:x:1002:3000::/:/bin/sh\n")
	for file, text := range map[string]string{"passwd": passwd.String(), "shadow": shadow.String(), "group": "surveyors:x:2000:\n"} {
		require.NoError(t, os.WriteFile(filepath.Join(etc, file), []byte(text), 0o600))
	}
	take := []string{"account", "import", "-system", "surveyors", "-system-files", etc, "-group", "crews"}
	out, errs, status := k.CLI(append(take, "-dry-run")...)
	require.Zero(t, status, errs)
	for _, left := range []string{"md5's password: its form", "locked's password: it has none", "daemon: it is no person's"} {
		assert.Contains(t, errs, left)
	}
	assert.NotContains(t, out+errs, "$6$")
	k.Must(nil, take...)
	stored := func(name string) string {
		a, err := k.DB.Account(t.Context(), name)
		require.NoError(t, err)
		return a.PasswordHash.Reveal()
	}
	for name := range hashes {
		_, err := k.Curl(name, "ftps", "/", "--user", name+":wrong "+testkit.Password)
		assert.Error(t, err, name)
		out, err := k.Curl(name, "ftps", "/")
		if name == "md5" || name == "locked" {
			assert.Error(t, err, name)
			continue
		}
		assert.NoError(t, err, "%s: %s", name, out)
		assert.Contains(t, stored(name), "$argon2id$", name)
		out, err = k.Curl(name, "ftps", "/")
		assert.NoError(t, err, "%s again: %s", name, out)
	}
	var a api.Account
	k.Must(&a, "account", "show", "sha512")
	assert.Equal(t, "sha512 the surveyor", a.Note)

	// What would take for ever, or is damaged, is refused; so is a hash for an account that is there.
	roster := filepath.Join(etc, "roster.csv")
	for hash, says := range map[string]string{"$6$rounds=999999999$saltsalt$" + strings.Repeat("a", 86): "too long", "$y$jDT$F5Jx5fExrKuPp53xLKQ..1$abc": "too long", "$2b$31$" + strings.Repeat("a", 53): "too long",
		"$pbkdf2-sha256$99999999$c2FsdA$aGFzaA": "too long", "$6$saltsalt$short": "not known", "plain": "not known", "$1$saltsalt$abc": "not known"} {
		require.NoError(t, os.WriteFile(roster, []byte("account,groups,password-hash\nnew,crews,"+hash+"\n"), 0o600))
		out, errs, status := k.CLI("account", "import", roster)
		assert.Equal(t, 1, status, hash)
		assert.Contains(t, out+errs, says, hash)
	}
	require.NoError(t, os.WriteFile(roster, []byte("account,groups,password-hash\nsha512,crews,"+hashes["sha512"]+"\n"), 0o600))
	out, _, _ = k.CLI("account", "import", roster)
	assert.Contains(t, out, "there already")
	require.NoError(t, os.WriteFile(roster, []byte("account,groups,password-hash\nkdf,crews,$pbkdf2-sha256$1000$c2FsdHNhbHQ$Pn0n6qJCgQuMIzUCAQXkvzDLJkLFdaT4ZBwcBlnuHUM\n"), 0o600))
	k.Must(nil, "account", "import", roster)
	_, err := k.Curl("kdf", "ftps", "/")
	assert.Error(t, err, "it is of another password")
}
