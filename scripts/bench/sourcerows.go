package main

import (
	"bytes"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"net/textproto"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"github.com/go-ldap/ldap/v3"
)

// A directory with people, who sign in to our service.
const (
	dirBase     = "dc=port-selwyn,dc=example"
	dirLooker   = "cn=lookup," + dirBase
	dirPassword = "looks-people-up"
	dirWorkers  = 4
)

var dirPeople = 10_000

// dirSignIns are made at once in a turn.
var dirSignIns = 800

const slapdConfig = `include /etc/ldap/schema/core.schema
include /etc/ldap/schema/cosine.schema
include /etc/ldap/schema/inetorgperson.schema
modulepath /usr/lib/ldap
moduleload back_mdb
moduleload memberof
TLSCertificateFile %[1]s/cert.pem
TLSCertificateKeyFile %[1]s/key.pem
database mdb
maxsize 1073741824
directory %[1]s/db
suffix "dc=port-selwyn,dc=example"
index objectClass,uid,member,memberOf eq
access to attrs=userPassword by anonymous auth by * none
access to * by dn.base="cn=lookup,dc=port-selwyn,dc=example" read by * none
limits dn.exact="cn=lookup,dc=port-selwyn,dc=example" size=unlimited
overlay memberof
`

// directory is what the rows of sources need.
type directory struct {
	url, trust string
	run        *exec.Cmd
}

// person is the name of one of the directory's people, all of whom have one password.
func person(n int) string { return fmt.Sprint("clerk-", n%dirPeople) }

func (w *world) startDirectory() error {
	if w.directory.run != nil {
		return nil
	}
	dir := filepath.Join(w.dir, "directory")
	if err := os.MkdirAll(filepath.Join(dir, "db"), 0o700); err != nil {
		return err
	}
	trust := filepath.Join(dir, "cert.pem")
	out, err := exec.Command("openssl", "req", "-x509", "-newkey", "ec", "-pkeyopt", "ec_paramgen_curve:P-256", "-nodes", "-days", "30", "-subj", "/CN=directory",
		"-addext", "subjectAltName=IP:127.0.0.1", "-out", trust, "-keyout", filepath.Join(dir, "key.pem")).CombinedOutput()
	if err != nil {
		return fmt.Errorf("%w: %s", err, out)
	}
	config := filepath.Join(dir, "slapd.conf")
	if err := os.WriteFile(config, fmt.Appendf(nil, slapdConfig, dir), 0o600); err != nil {
		return err
	}
	var ldif bytes.Buffer
	fmt.Fprintf(&ldif, "dn: %[1]s\nobjectClass: dcObject\nobjectClass: organization\no: x\ndc: port-selwyn\n\ndn: ou=people,%[1]s\nobjectClass: organizationalUnit\nou: people\n\ndn: %[2]s\nobjectClass: person\ncn: lookup\nsn: lookup\nuserPassword: %[3]s\n\n", dirBase, dirLooker, dirPassword)
	group := fmt.Sprintf("dn: cn=clerks,%s\nobjectClass: groupOfNames\ncn: clerks\n", dirBase)
	for n := range dirPeople {
		dn := "uid=" + person(n) + ",ou=people," + dirBase
		fmt.Fprintf(&ldif, "dn: %s\nobjectClass: inetOrgPerson\nuid: %s\ncn: x\nsn: x\nmail: %[2]s@port-selwyn.example\nmemberOf: cn=clerks,%s\nuserPassword: %s\n\n", dn, person(n), dirBase, password)
		group += "member: " + dn + "\n"
	}
	ldif.WriteString(group + "\n")
	load := exec.Command("/usr/sbin/slapadd", "-q", "-f", config)
	load.Stdin = &ldif
	if out, err := load.CombinedOutput(); err != nil {
		return fmt.Errorf("%w: %s", err, out)
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return err
	}
	w.directory.url, w.directory.trust = "ldaps://"+l.Addr().String(), trust
	l.Close()
	w.directory.run = exec.Command("/usr/sbin/slapd", "-f", config, "-h", w.directory.url, "-d", "0")
	if err := w.directory.run.Start(); err != nil {
		return err
	}
	for end := time.Now().Add(20 * time.Second); ; time.Sleep(50 * time.Millisecond) {
		c, err := w.bareBind(0)
		if err == nil {
			c.Close()
			break
		}
		if time.Now().After(end) {
			return err
		}
	}
	run := func(stdin string, args ...string) error {
		cli := exec.Command("bin/urbankeep", append(args, "-data", filepath.Join(w.dir, "data"))...)
		cli.Stdin = strings.NewReader(stdin)
		if out, err := cli.CombinedOutput(); err != nil {
			return fmt.Errorf("%v: %w: %s", args, err, out)
		}
		return nil
	}
	return errors.Join(
		run("", "group", "add", "clerks", "-home", "files:clerks/{account}", "-rights", "full", "-encryption", "optional"),
		run(dirPassword+"\n", "source", "add", "city", w.directory.url, "-bind-as", dirLooker, "-base", "ou=people,"+dirBase, "-trust", trust, "-makes", "-table", "clerks=clerks", "-timeout", "10s"),
		run("", "route", "add", "clerk-*", "city"), run("", "source", "sync", "city", "-go"))
}

// bareBind connects to the directory and binds as somebody, as the simplest program that asks one does.
func (w *world) bareBind(n int) (*ldap.Conn, error) {
	pem, err := os.ReadFile(w.directory.trust)
	if err != nil {
		return nil, err
	}
	pool := x509.NewCertPool()
	pool.AppendCertsFromPEM(pem)
	c, err := ldap.DialURL(w.directory.url, ldap.DialWithTLSConfig(&tls.Config{RootCAs: pool}))
	if err != nil {
		return nil, err
	}
	return c, c.Bind("uid="+person(n)+",ou=people,"+dirBase, password)
}

// each does something for several people at a time.
func (w *world) each(do func(n int) error) (float64, error) {
	return timed(dirSignIns, func() error {
		errs := make([]error, dirWorkers)
		var running sync.WaitGroup
		for worker := range dirWorkers {
			running.Go(func() {
				for n := worker; n < dirSignIns && errs[worker] == nil; n += dirWorkers {
					errs[worker] = do(n)
				}
			})
		}
		running.Wait()
		return errors.Join(errs...)
	})
}

// plainSignIn signs in over FTP without TLS.
func (w *world) plainSignIn(n int) error {
	c, err := textproto.Dial("tcp", w.oursAt["ftp"])
	if err != nil {
		return err
	}
	defer c.Close()
	for _, step := range []struct {
		say  string
		want int
	}{{"", 220}, {"USER " + person(n), 331}, {"PASS " + password, 230}} {
		if step.say != "" {
			if err := c.PrintfLine("%s", step.say); err != nil {
				return err
			}
		}
		if _, _, err := c.ReadResponse(step.want); err != nil {
			return err
		}
	}
	return nil
}

// plan has all people of the directory read and compared.
func (w *world) plan() (float64, error) {
	return timed(dirPeople, func() error {
		out, err := exec.Command("bin/urbankeep", "source", "sync", "city", "-json", "-data", filepath.Join(w.dir, "data")).Output()
		if err != nil {
			return err
		}
		var answer struct{ People int }
		if err := json.Unmarshal(out, &answer); err != nil || answer.People != dirPeople {
			return fmt.Errorf("%d people are known, not %d: %w", answer.People, dirPeople, err)
		}
		return nil
	})
}

// barePages reads all people, and no more.
func (w *world) barePages() (float64, error) {
	c, err := w.bareBind(0)
	if err == nil {
		err = c.Bind(dirLooker, dirPassword)
	}
	if err != nil {
		return 0, err
	}
	defer c.Close()
	return timed(dirPeople, func() error {
		_, err := c.SearchWithPaging(ldap.NewSearchRequest("ou=people,"+dirBase, ldap.ScopeWholeSubtree, 0, 0, 0, false, "(objectClass=person)", []string{"uid", "mail", "memberOf", "entryUUID"}, nil), 500)
		return err
	})
}

func (w *world) sourceRows() []row {
	after := func(do func() (float64, error)) func() (float64, error) {
		return func() (float64, error) {
			if err := w.startDirectory(); err != nil {
				return 0, err
			}
			return do()
		}
	}
	return []row{
		{name: "directory sign-ins beside the bare bind", unit: "per s", target: 0.8, turns: 5,
			ours: after(func() (float64, error) { return w.each(w.plainSignIn) }),
			floor: after(func() (float64, error) {
				return w.each(func(n int) error {
					c, err := w.bareBind(n)
					if err == nil {
						c.Close()
					}
					return err
				})
			})},
		{name: "directory plan of 10,000 people", unit: "per s", turns: 3, ours: after(w.plan), floor: after(w.barePages)},
	}
}
