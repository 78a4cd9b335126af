//go:build !linux

package picture

import "runtime/debug"

// bound asks this process to keep to little memory; who started it bounds its time.
func bound() error {
	debug.SetMemoryLimit(maxMemory * 3 / 4)
	return nil
}
