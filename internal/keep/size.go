package keep

import (
	"fmt"
	"math"
	"strconv"
	"strings"
)

// sizeUnits are binary, largest first, as IEC 80000-13 names them and as people
// shorten them; decimalUnits are those of the SI.
var sizeUnits = []struct {
	names []string
	bytes float64
}{
	{[]string{"tib", "t"}, 1 << 40}, {[]string{"gib", "g"}, 1 << 30}, {[]string{"mib", "m"}, 1 << 20}, {[]string{"kib", "k"}, 1 << 10}, {[]string{"b", ""}, 1},
}

var decimalUnits = map[string]float64{"kb": 1e3, "mb": 1e6, "gb": 1e9, "tb": 1e12}

// ParseSize reads a number of bytes with a unit, as it is written: binary for 500M, 2GiB and
// 1.5 G, decimal for 500kB and 10 GB; none for 4096. The error is a [*FieldError].
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
	if unit := decimalUnits[unit]; err == nil && unit > 0 && n >= 0 && n*unit < math.MaxInt64 {
		return int64(n * unit), nil
	}
	for _, u := range sizeUnits {
		for _, name := range u.names {
			if size := n * u.bytes; err == nil && name == unit && size >= 0 && size < math.MaxInt64 {
				return int64(size), nil
			}
		}
	}
	return 0, fmt.Errorf("%q is no size: use bytes, or a unit: kB, MB, GB, TB (of 1000) or KiB, MiB, GiB, TiB (of 1024, K, M, G, T for short), as in 4096, 500M or 10 GB", text)
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

// SayMany says how many of a thing there are.
func SayMany[N int | int64](n N, one string) string {
	if n == 1 {
		return "1 " + one
	}
	return strconv.FormatInt(int64(n), 10) + " " + one + "s"
}
