package faults_test

import (
	"flag"
	"testing"

	"go.uber.org/goleak"
)

// cuts is how often the power goes in each of the tests of that.
var cuts = flag.Int("cuts", 4, "how many `times` the power goes")

func TestMain(m *testing.M) { goleak.VerifyTestMain(m) }
