// Package dav_test tries WebDAV with real clients and by hand.
package dav_test

import (
	"testing"

	"go.uber.org/goleak"
)

func TestMain(m *testing.M) { goleak.VerifyTestMain(m) }
