//go:build !linux

package store

import (
	"errors"
	"time"
)

// FileTimes is not possible by an open file here.
func FileTimes(File, time.Time, time.Time) error { return errors.ErrUnsupported }
