//go:build !linux

package tree

func stepBack() {}
