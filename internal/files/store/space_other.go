//go:build !unix

package store

import (
	"errors"
	"os"
)

// SpaceOf is not known here.
func SpaceOf(*os.Root) (Space, error) { return Space{}, errors.ErrUnsupported }
