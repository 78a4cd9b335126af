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
	n, err := parseSize(text)
	if err != nil {
		return 0, &FieldError{field, err.Error()}
	}
	return n, nil
}

func parseSize(text string) (int64, error) {
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
	return 0, fmt.Errorf("%q is no size: use bytes or a unit, as in 4096, 500M or 2GiB", text)
}

// SaySize says a number of bytes for people, with a binary unit.
func SaySize(n int64) string {
	for _, u := range sizeUnits[:len(sizeUnits)-1] {
		if float64(n) >= u.bytes {
			unit := strings.ToUpper(u.names[1]) + "iB"
			return strings.TrimSuffix(strconv.FormatFloat(float64(n)/u.bytes, 'f', 1, 64), ".0") + " " + unit
		}
	}
	return strconv.FormatInt(n, 10) + " B"
}
