//go:build !linux

package store

import (
	"errors"
	"time"
)

// FileTimes sets the times that are not zero of an open file, where its store can; this system
// has no call for it.
func FileTimes(f File, access, modified time.Time) error {
	if own, can := f.(Timed); can {
		return own.SetTimes(access, modified)
	}
	return errors.ErrUnsupported
}
