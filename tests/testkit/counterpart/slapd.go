package counterpart

import (
	"bytes"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"urbankeep/tests/testkit"
)

// Slapd is an LDAP directory with people, below dc=port-selwyn,dc=example.
type Slapd struct {
	Plain, TLS string // URLs
	Trust      string // file with who vouches for it
	LookUp     string // DN that may look people up; its password is LookUpPassword
	dir        string
	program    string
	run        *exec.Cmd
	t          testing.TB
}

// Base, People and Groups are where things are in the directory.
const (
	Base           = "dc=port-selwyn,dc=example"
	People         = "ou=people," + Base
	Groups         = "ou=groups," + Base
	LookUpPassword = "looks people up"
)

const slapdConfig = `include /etc/ldap/schema/core.schema
include /etc/ldap/schema/cosine.schema
include /etc/ldap/schema/nis.schema
include /etc/ldap/schema/inetorgperson.schema
attributetype ( 1.3.6.1.4.1.24552.500.1.1.1.13 NAME 'sshPublicKey' EQUALITY octetStringMatch SYNTAX 1.3.6.1.4.1.1466.115.121.1.40 )
objectclass ( 1.3.6.1.4.1.24552.500.1.1.2.0 NAME 'keyHolder' SUP top AUXILIARY MAY sshPublicKey )
attributetype ( 1.3.6.1.4.1.32473.1.1 NAME 'nsAccountLock' EQUALITY booleanMatch SYNTAX 1.3.6.1.4.1.1466.115.121.1.7 SINGLE-VALUE )
objectclass ( 1.3.6.1.4.1.32473.1.2 NAME 'lockable' SUP top AUXILIARY MAY nsAccountLock )
modulepath /usr/lib/ldap
moduleload back_mdb
moduleload memberof
pidfile %[1]s/pid
TLSCertificateFile %[1]s/cert.pem
TLSCertificateKeyFile %[1]s/key.pem
disallow bind_anon
sizelimit 500
database mdb
maxsize 1073741824
directory %[1]s/db
suffix "dc=port-selwyn,dc=example"
rootdn "cn=root,dc=port-selwyn,dc=example"
rootpw root
index objectClass,uid,member,memberOf eq
dbnosync
access to attrs=userPassword by anonymous auth by * none
access to * by dn.base="cn=lookup,dc=port-selwyn,dc=example" read by * none
limits dn.exact="cn=lookup,dc=port-selwyn,dc=example" size=500 size.prtotal=unlimited
overlay memberof
`

// StartSlapd runs one that holds some entries (LDIF, RFC 2849) besides the usual ones.
func StartSlapd(t testing.TB, ldif string) *Slapd {
	program := "/usr/sbin/slapd"
	if _, err := os.Stat(program); err != nil {
		t.Skip("slapd is not installed: make tools")
	}
	dir := t.TempDir()
	require.NoError(t, os.Mkdir(filepath.Join(dir, "db"), 0o700))
	s := &Slapd{t: t, dir: dir, program: program, LookUp: "cn=lookup," + Base, Trust: filepath.Join(dir, "cert.pem")}
	out, err := exec.Command("openssl", "req", "-x509", "-newkey", "ec", "-pkeyopt", "ec_paramgen_curve:P-256", "-nodes", "-days", "30", "-subj", "/CN=directory",
		"-addext", "subjectAltName=IP:127.0.0.1", "-out", s.Trust, "-keyout", filepath.Join(dir, "key.pem")).CombinedOutput()
	require.NoError(t, err, string(out))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "slapd.conf"), fmt.Appendf(nil, slapdConfig, dir), 0o600))
	usual := fmt.Sprintf("dn: %[1]s\nobjectClass: dcObject\nobjectClass: organization\no: Port Selwyn\ndc: port-selwyn\n\ndn: ou=people,%[1]s\nobjectClass: organizationalUnit\nou: people\n\n"+
		"dn: ou=groups,%[1]s\nobjectClass: organizationalUnit\nou: groups\n\ndn: cn=lookup,%[1]s\nobjectClass: person\ncn: lookup\nsn: lookup\nuserPassword: %[2]s\n\n", Base, LookUpPassword)
	s.Add(usual + ldif)
	low := testkit.FreePorts(t)
	s.Plain, s.TLS = fmt.Sprint("ldap://127.0.0.1:", low), fmt.Sprint("ldaps://127.0.0.1:", low+1)
	s.Start()
	t.Cleanup(s.Stop)
	return s
}

// Add puts entries into the directory while it does not run.
func (s *Slapd) Add(ldif string) {
	load := exec.Command("/usr/sbin/slapadd", "-q", "-f", filepath.Join(s.dir, "slapd.conf"))
	load.Stdin = bytes.NewReader([]byte(ldif))
	out, err := load.CombinedOutput()
	require.NoError(s.t, err, string(out))
}

// Start runs it, at the same addresses as before.
func (s *Slapd) Start() {
	s.run = exec.Command(s.program, "-f", filepath.Join(s.dir, "slapd.conf"), "-h", s.Plain+" "+s.TLS, "-d", "0")
	require.NoError(s.t, s.run.Start())
	for end := time.Now().Add(testkit.Patience); ; time.Sleep(20 * time.Millisecond) {
		c, err := net.Dial("tcp", s.TLS[len("ldaps://"):])
		if err == nil {
			c.Close()
			return
		}
		require.Less(s.t, time.Now(), end, "the directory does not answer: %v", err)
	}
}

// Stop ends it; who asks is refused.
func (s *Slapd) Stop() {
	if s.run != nil {
		s.run.Process.Kill()
		s.run.Wait()
		s.run = nil
	}
}

// Freeze has it answer nothing until Thaw; connections are accepted.
func (s *Slapd) Freeze() { s.signal("-STOP") }

// Thaw lets it answer again.
func (s *Slapd) Thaw() { s.signal("-CONT") }

func (s *Slapd) signal(which string) {
	require.NoError(s.t, exec.Command("sh", "-c", fmt.Sprint("kill ", which, " ", s.run.Process.Pid)).Run())
}

// Modify changes entries (LDIF) while it runs.
func (s *Slapd) Modify(ldif string) {
	out, err := exec.Command("sh", "-c", "ldapmodify -x -H "+s.Plain+" -D cn=root,"+Base+" -w root <<'E'\n"+ldif+"\nE").CombinedOutput()
	require.NoError(s.t, err, string(out))
}

// Person is an entry of somebody, with more attributes as lines.
func Person(name, password string, more ...string) string {
	text := fmt.Sprintf("dn: uid=%[1]s,%[2]s\nobjectClass: inetOrgPerson\nobjectClass: shadowAccount\nobjectClass: keyHolder\nobjectClass: lockable\nuid: %[1]s\ncn: %[1]s\nsn: %[1]s\nmail: %[1]s@port-selwyn.example\nuserPassword: %[3]s\n", name, People, password)
	for _, line := range more {
		text += line + "\n"
	}
	return text + "\n"
}

// Group is an entry of a group; members are names of people, or DNs.
func Group(name string, members ...string) string {
	text := fmt.Sprintf("dn: cn=%[1]s,%[2]s\nobjectClass: groupOfNames\ncn: %[1]s\n", name, Groups)
	for _, m := range members {
		if !bytes.ContainsRune([]byte(m), '=') {
			m = "uid=" + m + "," + People
		}
		text += "member: " + m + "\n"
	}
	return text + "\n"
}
