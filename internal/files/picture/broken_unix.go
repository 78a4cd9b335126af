//go:build unix

package picture

import (
	"errors"
	"syscall"
)

// broken reports whether the one who draws has stopped reading.
func broken(err error) bool { return errors.Is(err, syscall.EPIPE) }
