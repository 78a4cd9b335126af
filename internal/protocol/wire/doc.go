// Package wire is what every protocol server does with its listeners and
// connections: accept, hand over, count, and stop in an orderly way. It knows
// no protocol.
package wire
