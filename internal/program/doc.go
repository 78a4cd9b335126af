// Package program puts together the commands that the program has, for main and for what
// documents them. It knows what each is called, and not what it does.
package program
