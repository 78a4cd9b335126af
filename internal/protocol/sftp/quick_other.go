//go:build !linux

package sftp

import "net"

// quickAcks gives a connection on which what has come is acknowledged at once, where that can be asked for.
func quickAcks(conn net.Conn) net.Conn { return conn }

// usualAcks leaves acknowledgements to the kernel again.
func usualAcks(net.Conn) {}
