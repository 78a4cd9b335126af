package keep_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"urbankeep/internal/keep"
)

func TestATokenIsNeverMoreThanItsOperator(t *testing.T) {
	for _, c := range [][3]keep.Role{{keep.Owner, keep.Owner, keep.Owner}, {keep.Owner, keep.Auditor, keep.Auditor}, {keep.Auditor, keep.Owner, keep.Auditor},
		{keep.Manager, keep.Owner, keep.Manager}, {keep.Owner, keep.Manager, keep.Manager}, {keep.Manager, keep.Auditor, keep.Auditor}} {
		assert.Equal(t, c[2], c[0].Lesser(c[1]), "%s and %s", c[0], c[1])
	}
	assert.NoError(t, keep.Manager.Check())
	assert.Error(t, keep.Role("root").Check())
	assert.False(t, keep.Auditor.MayChange())
}

func TestAHostIsANameOrAnAddress(t *testing.T) {
	for _, host := range []string{"", "localhost", "files.portselwyn.example", "192.0.2.7", "2001:db8::7", "a-1.example"} {
		assert.NoError(t, (&keep.Identity{Host: host}).Check(), host)
	}
	for _, host := range []string{"x y", "-x", "files.example:21", "ftp://x", "a..b", "[2001:db8::7]", "x'; rm", strings.Repeat("a.", 200) + "b", "ä.example"} {
		assert.Error(t, (&keep.Identity{Host: host}).Check(), host)
	}
	assert.Error(t, (&keep.Identity{Name: "two\nlines"}).Check())
	assert.Error(t, (&keep.Identity{Name: strings.Repeat("x", 101)}).Check())
	assert.NoError(t, (&keep.Identity{Name: "Port Selwyn — survey office"}).Check())
}
