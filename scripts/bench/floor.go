package main

import (
	"bytes"
	"crypto/ed25519"
	"encoding/binary"
	"fmt"
	"io"
	"net"
	"os"
	"strings"

	"golang.org/x/crypto/ssh"

	"urbankeep/internal/protocol/sftp"
)

// The floor: what the same client gets from the least that could answer it. It
// keeps no accounts, no rights, no records and no files: reads come from memory,
// writes go nowhere. Folders are listed as Go's library reads them.

// serveFloor is a bare SSH server whose sftp subsystem has one large file, small ones by every
// name that begins with [floorSmall], and one folder, [floorMany], of which it lists what the disk has. It prints its address.
func serveFloor() error {
	_, private, err := ed25519.GenerateKey(nil)
	if err != nil {
		return err
	}
	signer, err := ssh.NewSignerFromKey(private)
	if err != nil {
		return err
	}
	config := &ssh.ServerConfig{Config: ssh.Config{Ciphers: sftp.Ciphers([]string{ssh.CipherAES128GCM})},
		PublicKeyCallback: func(ssh.ConnMetadata, ssh.PublicKey) (*ssh.Permissions, error) { return &ssh.Permissions{}, nil }}
	config.AddHostKey(signer)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return err
	}
	plain, secured, err := serveFTPFloor(os.Getenv("FLOOR_FOLDER"))
	if err != nil {
		return err
	}
	fmt.Println(l.Addr(), plain, secured)
	for {
		raw, err := l.Accept()
		if err != nil {
			return err
		}
		go func() {
			defer raw.Close()
			_, channels, requests, err := ssh.NewServerConn(raw, config)
			if err != nil {
				return
			}
			go ssh.DiscardRequests(requests)
			for offered := range channels {
				channel, asked, err := offered.Accept()
				if err != nil {
					return
				}
				go func() {
					for request := range asked {
						request.Reply(request.Type == "subsystem", nil)
					}
				}()
				go floorSession(channel)
			}
		}()
	}
}

const (
	floorPacket = 256 << 10
	floorData   = floorPacket - 1024
)

// floorSize is the size of every file that is read; the bench sets it.
var floorSize = func() uint64 {
	var n uint64 = 1 << 30
	fmt.Sscan(os.Getenv("FLOOR_SIZE"), &n)
	return n
}()

// floorSmall is how the names of small files begin.
const floorSmall = "/small-"

// floorMany is the folder that can be listed; floorList is how many names a reply has.
const (
	floorMany = "many"
	floorList = 1000
)

// floorSession answers just what sftp asks during get and put.
func floorSession(channel ssh.Channel) {
	defer channel.Close()
	in, out := make([]byte, floorPacket+4), make([]byte, floorPacket+64)
	reply := func(kind byte, id []byte, body ...[]byte) {
		packet := append(out[:4], kind)
		packet = append(packet, id...)
		for _, part := range body {
			packet = append(packet, part...)
		}
		binary.BigEndian.PutUint32(packet, uint32(len(packet)-4))
		channel.Write(packet)
	}
	number := func(n uint32) []byte { return binary.BigEndian.AppendUint32(nil, n) }
	text := func(s string) []byte { return append(number(uint32(len(s))), s...) }
	ok := bytes.Join([][]byte{number(0), text(""), text("")}, nil)
	folder := append(number(4), number(0o040755)...)
	attrs := func(size uint64) []byte {
		return append(append(number(5), binary.BigEndian.AppendUint64(nil, size)...), number(0o100644)...)
	}
	sizeOf := func(small bool) uint64 {
		if small {
			return smallSize
		}
		return floorSize
	}
	var list *os.File
	for {
		if _, err := io.ReadFull(channel, in[:4]); err != nil {
			return
		}
		size := binary.BigEndian.Uint32(in)
		if size > floorPacket {
			return
		}
		_, err := io.ReadFull(channel, in[:size])
		if err != nil {
			return
		}
		id := in[1:5]
		switch in[0] {
		case 1: // init
			reply(2, number(3), text("limits@openssh.com"), text("1"))
		case 12: // readdir
			infos, err := list.Readdir(floorList)
			if err != nil {
				list.Close()
				reply(101, id, number(1), text(""), text(""))
				continue
			}
			names := number(uint32(len(infos)))
			for _, info := range infos {
				names = append(names, text(info.Name())...)
				names = append(names, text(fmt.Sprintf("-rw-r-----    1 crew     crew     %8d Jan  1 00:00 %s", info.Size(), info.Name()))...)
				names = append(names, attrs(uint64(info.Size()))...)
			}
			reply(104, id, names)
		case 3, 11: // open, opendir
			if in[0] == 11 {
				if list, err = os.Open(os.Getenv("FLOOR_MANY")); err != nil {
					return
				}
			}
			handle := "big "
			if bytes.HasPrefix(in[9:size], []byte(floorSmall)) {
				handle = "smal"
			}
			reply(102, id, text(handle))
		case 5: // read
			offset, want := binary.BigEndian.Uint64(in[13:]), binary.BigEndian.Uint32(in[21:])
			end := sizeOf(string(in[9:13]) == "smal")
			if offset >= end {
				reply(101, id, number(1), text(""), text(""))
				continue
			}
			n := min(uint64(want), floorData, end-offset)
			packet := out[:13+n] // whatever is in the buffer is the file
			copy(packet[4:], append([]byte{103}, id...))
			binary.BigEndian.PutUint32(packet[9:], uint32(n))
			binary.BigEndian.PutUint32(packet, uint32(len(packet)-4))
			channel.Write(packet)
		case 7, 8, 17: // lstat, fstat, stat
			switch name := string(in[9:size]); {
			case strings.HasSuffix(name, "/"), strings.HasSuffix(name, floorMany):
				reply(105, id, folder)
			default:
				reply(105, id, attrs(sizeOf(strings.HasPrefix(name, floorSmall))))
			}
		case 16: // realpath
			name := in[9:size]
			if string(name) == "." {
				name = []byte("/")
			}
			reply(104, id, number(1), text(string(name)), text(""), number(0))
		case 200: // limits
			reply(201, id, make([]byte, 4), number(floorPacket), make([]byte, 4), number(floorData), make([]byte, 4), number(floorData), make([]byte, 4), number(100))
		default: // write, close, mkdir, …
			reply(101, id, ok)
		}
	}
}
