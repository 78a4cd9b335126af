package main

import (
	"bufio"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"fmt"
	"io"
	"math/big"
	"net"
	"os"
	"path/filepath"
	"strings"
	"time"
)

// The floor of FTP: the least that the same client can talk to. Everybody is let
// in, nothing is checked or recorded; bytes go between socket and file as Go's
// library moves them.

func serveFTPFloor(dir string) (plain, secured string, err error) {
	config, err := floorTLS()
	if err != nil {
		return "", "", err
	}
	var addresses []string
	for _, over := range []*tls.Config{nil, config} {
		l, err := net.Listen("tcp", "127.0.0.1:0")
		if err != nil {
			return "", "", err
		}
		addresses = append(addresses, l.Addr().String())
		go func() {
			for {
				raw, err := l.Accept()
				if err != nil {
					return
				}
				go (&floorFTP{dir: dir, tls: over}).serve(raw)
			}
		}()
	}
	return addresses[0], addresses[1], nil
}

func floorTLS() (*tls.Config, error) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, err
	}
	template := &x509.Certificate{SerialNumber: big.NewInt(1), NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(time.Hour), DNSNames: []string{"localhost"}}
	der, err := x509.CreateCertificate(rand.Reader, template, template, key.Public(), key)
	if err != nil {
		return nil, err
	}
	return &tls.Config{Certificates: []tls.Certificate{{Certificate: [][]byte{der}, PrivateKey: key}}}, nil
}

// floorFTP is one connection to the floor.
type floorFTP struct {
	dir  string
	tls  *tls.Config
	data net.Listener
}

func (f *floorFTP) over(raw net.Conn) net.Conn {
	if f.tls == nil {
		return raw
	}
	return tls.Server(raw, f.tls)
}

func (f *floorFTP) serve(raw net.Conn) {
	control := f.over(raw)
	defer control.Close()
	data, err := net.Listen("tcp", "127.0.0.1:0") // one for all transfers
	if err != nil {
		return
	}
	f.data = data
	defer data.Close()
	fmt.Fprint(control, "220 floor\r\n")
	lines := bufio.NewScanner(control)
	for lines.Scan() {
		verb, arg, _ := strings.Cut(lines.Text(), " ")
		reply := "500 no"
		switch verb {
		case "TYPE", "PBSZ", "PROT", "NOOP":
			reply = "200 yes"
		case "FEAT": // what makes clients ask as they ask us
			reply = "211-these\r\n MDTM\r\n MFMT\r\n SIZE\r\n211 no more"
		case "SIZE", "MDTM":
			if info, err := os.Stat(f.path(arg)); err == nil {
				reply = "213 " + info.ModTime().UTC().Format(ftpTime)
				if verb == "SIZE" {
					reply = fmt.Sprintf("213 %d", info.Size())
				}
			}
		case "MFMT":
			at, name, _ := strings.Cut(arg, " ")
			if when, err := time.Parse(ftpTime, at); err == nil && os.Chtimes(f.path(name), when, when) == nil {
				reply = "213 Modify=" + at + "; " + name
			}
		case "USER":
			reply = "331 password"
		case "PASS":
			reply = "230 in"
		case "PWD":
			reply = `257 "/"`
		case "CWD":
			reply = "250 there"
		case "MKD":
			reply = `257 "there"`
		case "EPSV":
			reply = fmt.Sprintf("229 here (|||%d|)", f.data.Addr().(*net.TCPAddr).Port)
		case "PASV":
			port := f.data.Addr().(*net.TCPAddr).Port
			reply = fmt.Sprintf("227 here (127,0,0,1,%d,%d)", port>>8, port&255)
		case "MLSD":
			fmt.Fprint(control, "150 go\r\n")
			reply = "226 done"
			if f.list() != nil {
				reply = "550 no"
			}
		case "RETR", "STOR":
			fmt.Fprint(control, "150 go\r\n")
			reply = "226 done"
			if f.move(verb, f.path(arg)) != nil {
				reply = "550 no"
			}
		case "QUIT":
			fmt.Fprint(control, "221 bye\r\n")
			return
		}
		fmt.Fprint(control, reply+"\r\n")
	}
}

// ftpTime is how FTP writes a moment (RFC 3659, section 2.3).
const ftpTime = "20060102150405"

func (f *floorFTP) path(name string) string { return filepath.Join(f.dir, filepath.Base(name)) }

func (f *floorFTP) open() (net.Conn, error) {
	f.data.(*net.TCPListener).SetDeadline(time.Now().Add(10 * time.Second))
	raw, err := f.data.Accept()
	if err != nil {
		return nil, err
	}
	return f.over(raw), nil
}

// list sends what is in [floorMany] on the disk.
func (f *floorFTP) list() error {
	conn, err := f.open()
	if err != nil {
		return err
	}
	defer conn.Close()
	folder, err := os.Open(os.Getenv("FLOOR_MANY"))
	if err != nil {
		return err
	}
	defer folder.Close()
	out := bufio.NewWriterSize(conn, 32<<10)
	for {
		infos, err := folder.Readdir(floorList)
		if err == io.EOF {
			return out.Flush()
		}
		if err != nil {
			return err
		}
		for _, info := range infos {
			fmt.Fprintf(out, "type=file;size=%d;modify=%s;perm=adfrw;unix.mode=0640; %s\r\n", info.Size(), info.ModTime().UTC().Format(ftpTime), info.Name())
		}
	}
}

func (f *floorFTP) move(verb, name string) error {
	conn, err := f.open()
	if err != nil {
		return err
	}
	defer conn.Close()
	if verb == "RETR" {
		file, err := os.Open(name)
		if err != nil {
			return err
		}
		defer file.Close()
		_, err = io.Copy(conn, file)
		return err
	}
	file, err := os.Create(name)
	if err != nil {
		return err
	}
	_, err = io.Copy(file, conn)
	file.Close()
	return err
}
