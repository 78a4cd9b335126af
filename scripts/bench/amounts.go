package main

import "time"

// How much is measured. With -tiny it is next to nothing: that shows that each row can
// be run to its end, and says nothing about speed.
var (
	largeMiB   = 1024 // of the large file
	smallFiles = 5000
	fewObjects = 1000
	entries    = 100_000 // of a listed folder
	idlers     = 200     // idle sessions
	signInRuns = 400

	fewRecords  = 1_000_000
	manyRecords = 10_000_000
	someRecords = 200_000 // for rates of writing

	// How many accounts and groups a crowded house has.
	crowdAccounts = 100_000
	crowdGroups   = 5000

	liveSessions = 1000
	manyIdlers   = 5000
	liveWatch    = 10 * time.Second

	mostTurns = 1000
)

const (
	smallSize   = 4096
	parallel    = 16
	crowdGrants = 10          // that reach each account of a crowded house by each of its two groups
	livePace    = time.Second // each live session does something so often
)

func beTiny() {
	largeMiB, smallFiles, fewObjects, entries, idlers, signInRuns = 2, 40, 20, 200, 4, 4
	dirPeople, dirSignIns = 20, 8
	fewRecords, manyRecords, someRecords = 500, 2000, 500
	crowdAccounts, crowdGroups = 20, 4
	liveSessions, liveWatch, manyIdlers = 10, time.Second, 8
	mostTurns = 2
}
