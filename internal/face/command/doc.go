// Package command is what all commands of the program share: how one is
// described, how its flags are read and how its errors end. It knows no command.
package command
