// Package scp speaks the legacy copy protocol: what `scp -O` and its like start on the other side of an SSH connection by
// "exec", as -t (to here) or -f (from here). No standard describes it: its clients do.
//
// Each control line of the sender is answered by one byte, 0, or by 1 or 2 and a line that the user sees. There is no shell:
// of the command only words, quotes and the wildcards of names are understood.
package scp
