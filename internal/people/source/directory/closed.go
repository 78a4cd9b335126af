package directory

import (
	"strconv"
	"strings"
	"time"

	"github.com/go-ldap/ldap/v3"
)

// Bits of userAccountControl: the entry is disabled, or locked.
const (
	disabledBit = 0x2
	lockedBit   = 0x10
)

// closedBy says why an entry may not sign in, by the attributes of directories that have one; "" when it may. A lock that
// ends by itself is left to the directory, which refuses the bind.
func closedBy(e *ldap.Entry, now time.Time) string {
	number := func(name string) int64 {
		n, _ := strconv.ParseInt(e.GetEqualFoldAttributeValue(name), 10, 64)
		return n
	}
	flag := func(name string) bool { return strings.EqualFold(e.GetEqualFoldAttributeValue(name), "TRUE") }
	switch {
	case number("userAccountControl")&disabledBit != 0, flag("nsAccountLock"), flag("loginDisabled"):
		return "it is disabled"
	case number("msDS-User-Account-Control-Computed")&lockedBit != 0, strings.HasPrefix(e.GetEqualFoldAttributeValue("pwdAccountLockedTime"), "00000101"):
		return "it is locked"
	case over(number("accountExpires"), now), number("shadowExpire") > 0 && now.Unix()/(24*60*60) >= number("shadowExpire"):
		return "its time is over"
	}
	return ""
}

// over reports whether a time is past that counts units of 100 ns since 1601; 0 and the largest number are never.
func over(ticks int64, now time.Time) bool {
	const since1601 = 11_644_473_600 // seconds from 1601 to 1970
	if ticks <= 0 || ticks == 1<<63-1 {
		return false
	}
	return now.Unix() >= ticks/10_000_000-since1601
}
