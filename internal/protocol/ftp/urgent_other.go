//go:build !unix

package ftp

import "net"

func inlineUrgent(net.Conn) {}
