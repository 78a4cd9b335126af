// Package scratch is a file for passing work that can be written at any offset: what it holds is
// encrypted on the disk with a key that is in memory only, and it has no name there. So nothing of it
// can be read by anybody else, nor by anybody once the process has ended.
package scratch
