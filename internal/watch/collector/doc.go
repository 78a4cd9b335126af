// Package collector sends the audit trail to a syslog collector: RFC 5424 messages over
// TLS (RFC 5425), TCP (RFC 6587, octet counting) or UDP (RFC 5426).
//
// The trail itself is the spool: what is kept is how far the collector has come, so an
// unreachable one costs the service nothing and loses nothing. Syslog has no
// acknowledgements; a message counts as delivered when its connection has lived on for
// [Settled] after it was sent. What had not counted when a connection broke is sent
// again, and each message carries the number of its record.
package collector
