//go:build !linux

package wire

import "net"

// QuickAcks gives a connection on which what has come is acknowledged at once, where that can be asked for.
func QuickAcks(conn net.Conn) net.Conn { return conn }

// UsualAcks leaves acknowledgements to the kernel again.
func UsualAcks(net.Conn) {}
