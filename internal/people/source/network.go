package source

import (
	"errors"
	"net"
	"os"
	"strings"
	"syscall"
)

// SayNetwork says why a server could not be reached, and what to look at; other errors as they are.
func SayNetwork(err error) string {
	var name *net.DNSError
	var dial *net.OpError
	at := ""
	if errors.As(err, &dial) && dial.Addr != nil {
		at = " at " + dial.Addr.String()
	}
	switch {
	case errors.As(err, &name) && name.IsNotFound:
		return "no server is named " + name.Name + ": correct the name, or see to its DNS"
	case errors.Is(err, syscall.ECONNREFUSED), strings.Contains(err.Error(), "actively refused"): // as Windows says it
		return "nothing listens" + at + ": see that the server runs, and that the port is right"
	case errors.Is(err, os.ErrDeadlineExceeded), errors.Is(err, syscall.ETIMEDOUT):
		return "there is no answer" + at + ": see that the address is right, and that no firewall is in between"
	case errors.Is(err, syscall.EHOSTUNREACH), errors.Is(err, syscall.ENETUNREACH):
		return "there is no way" + at + ": see that the address is right, and that this machine reaches that network"
	}
	return err.Error()
}
