package disk

// Both kinds of disk folders, for the tests: the portable one runs everywhere.
var (
	OpenRooted = openRooted
	OpenHere   = openFolder
)
