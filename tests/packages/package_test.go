package packages_test

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// machine is a container that the test makes itself: this machine's files with a layer of
// their own over them, in name spaces of their own, so that nothing of what is installed
// there touches the machine.
const machine = `
set -e
mount -t tmpfs none "$1"
mkdir "$1/upper" "$1/work" "$1/root"
mount -t overlay overlay -o "lowerdir=/,upperdir=$1/upper,workdir=$1/work" "$1/root"
mount -t proc proc "$1/root/proc"
mount --bind /dev "$1/root/dev"
mount --bind "$2" "$1/root/mnt"
exec chroot "$1/root" /bin/sh -e /mnt/steps.sh
`

// steps are what an administrator does with the package. What the unit says of how the
// service is run is done here by setpriv: there is no systemd in the container.
const steps = `
export PATH=/usr/sbin:/usr/bin:/sbin:/bin
says() { echo "== $1"; }
begin() {
  rm -f /run/notify
  grep -o '^ExecStart=.*' /usr/lib/systemd/system/urbankeep.service | grep -q '/usr/bin/urbankeep serve -data /var/lib/urbankeep'
  setpriv --reuid urbankeep --regid urbankeep --init-groups --no-new-privs --inh-caps -all,+net_bind_service --ambient-caps -all,+net_bind_service --bounding-set -all,+net_bind_service \
    /usr/bin/urbankeep serve -data /var/lib/urbankeep -console 127.0.0.1:18999 -ftp 127.0.0.1:821 -ftps 127.0.0.1:18990 -sftp 127.0.0.1:18922 >/tmp/serve.log 2>&1 &
  served=$!
  for n in $(seq 200); do grep -q ^ready /tmp/serve.log && return; sleep 0.1; done
  cat /tmp/serve.log; exit 1
}
end() { kill $served; wait $served; }

says install
dpkg -i /mnt/first.deb
test "$(stat -c '%U %a' /var/lib/urbankeep)" = "urbankeep 700"
urbankeep version
begin
says started
grep '^CapEff' /proc/$served/status
urbankeep setup -name 'Survey Office' -host localhost -group crews -account crew-harbour
urbankeep checkup -brief || true
man -l /usr/share/man/man1/urbankeep-checkup.1.gz >/dev/null 2>&1 || zcat /usr/share/man/man1/urbankeep-checkup.1.gz | grep -q firewall
end
echo '# mine' >> /etc/default/urbankeep

says upgrade
dpkg -i --force-confdef --force-confold /mnt/second.deb
urbankeep version
grep -q '# mine' /etc/default/urbankeep
begin
urbankeep service show
urbankeep account list
end

says remove
dpkg -r urbankeep
test ! -e /usr/bin/urbankeep
test ! -e /usr/lib/systemd/system/urbankeep.service
test -e /var/lib/urbankeep/urbankeep.db
dpkg -P urbankeep
test ! -e /etc/default/urbankeep
test -e /var/lib/urbankeep/urbankeep.db
getent passwd urbankeep
rm -r /var/lib/urbankeep
dpkg -i /mnt/second.deb
dpkg -P urbankeep
! getent passwd urbankeep
! find / -xdev -name '*urbankeep*' -not -path '/proc/*' -not -path '/mnt/*' -not -path '/tmp/*' -not -path '/work/*' -not -path '/root/*' -newer /mnt/steps.sh | grep .
says done
`

func packages(t *testing.T, out, version string, flags ...string) {
	build := exec.Command("go", append([]string{"run", "./scripts/package", "-version", version, "-arch", "amd64", "-out", out}, flags...)...)
	build.Dir = "../.."
	text, err := build.CombinedOutput()
	require.NoError(t, err, string(text))
}

func TestTheDebianPackageLivesItsLife(t *testing.T) {
	if os.Geteuid() != 0 || exec.Command("unshare", "--mount", "true").Run() != nil {
		t.Skip("making a container needs root")
	}
	dir, over := t.TempDir(), t.TempDir()
	packages(t, dir, "0.1.0", "-kind", "deb")
	packages(t, dir, "0.2.0", "-platforms", "linux/amd64")
	made, err := filepath.Glob(filepath.Join(dir, "*"))
	require.NoError(t, err)
	assert.Len(t, made, 5, "the first as deb; the second as deb, rpm, tar and image: %v", made)
	require.NoError(t, os.Rename(filepath.Join(dir, "urbankeep_0.1.0_amd64.deb"), filepath.Join(dir, "first.deb")))
	require.NoError(t, os.Rename(filepath.Join(dir, "urbankeep_0.2.0_amd64.deb"), filepath.Join(dir, "second.deb")))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "steps.sh"), []byte(steps), 0o644))
	before := time.Now().Add(-2 * time.Second) // what is newer than the steps was installed by them
	require.NoError(t, os.Chtimes(filepath.Join(dir, "steps.sh"), before, before))
	out, err := exec.Command("unshare", "--mount", "--pid", "--fork", "--uts", "--ipc", "sh", "-c", machine, "machine", over, dir).CombinedOutput()
	text := string(out)
	require.NoError(t, err, text)
	assert.Contains(t, text, "urbankeep 0.1.0, linux/amd64")
	assert.Contains(t, text, "urbankeep 0.2.0, linux/amd64")
	assert.Regexp(t, `CapEff:\s+0000000000000400`, text, "no power but that of low ports")
	assert.Contains(t, text, "account crew-harbour added")
	assert.Regexp(t, `(?s)== upgrade.*name  Survey Office.*crew-harbour.*== remove`, text)
	assert.Contains(t, text, "The data of Urban Keep stays")
	assert.True(t, strings.HasSuffix(text, "== done\n"), text)
}

func TestTheUnitIsHardened(t *testing.T) {
	if _, err := exec.LookPath("systemd-analyze"); err != nil {
		t.Skip("there is no systemd-analyze")
	}
	out, err := exec.Command("systemd-analyze", "security", "--offline=yes", "--threshold=30", "../../packaging/urbankeep.service").CombinedOutput()
	assert.NoError(t, err, string(out))
}
