package keep

import (
	"fmt"
	"math"
	"strconv"
	"strings"
)

// sizeUnits are binary, largest first, as IEC 80000-13 names them and as people
// shorten them.
var sizeUnits = []struct {
	names []string
	bytes float64
}{
	{[]string{"tib", "t"}, 1 << 40}, {[]string{"gib", "g"}, 1 << 30}, {[]string{"mib", "m"}, 1 << 20}, {[]string{"kib", "k"}, 1 << 10}, {[]string{"b", ""}, 1},
}

// ParseSize reads a number of bytes with a binary unit: 500M, 2GiB, 1.5 G, 4096. The
// error is a [*FieldError].
func ParseSize(field, text string) (int64, error) {
	trimmed := strings.ToLower(strings.TrimSpace(text))
	digits := strings.TrimRight(trimmed, "abcdefghijklmnopqrstuvwxyz ")
	unit := strings.TrimSpace(trimmed[len(digits):])
	n, err := strconv.ParseFloat(digits, 64)
	for _, u := range sizeUnits {
		for _, name := range u.names {
			if size := n * u.bytes; err == nil && name == unit && size >= 0 && size < math.MaxInt64 {
				return int64(size), nil
			}
		}
	}
	return 0, &FieldError{field, fmt.Sprintf("%q is no size: use bytes or a unit, as in 4096, 500M or 2GiB", text)}
}
