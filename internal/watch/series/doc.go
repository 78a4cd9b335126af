// Package series is traffic over time: bytes and operations by the hour and the day,
// added up from the audit trail and broken down by account, group, address, protocol,
// operation, mount and file.
//
// Everything here follows from the trail: what is shown can be traced to its records,
// and a service that was killed goes on adding where it was. It knows no protocol and
// no HTTP; what moves this second is for package traffic to say.
package series
