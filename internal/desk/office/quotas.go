package office

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"urbankeep/internal/api"
	"urbankeep/internal/files/quota"
	"urbankeep/internal/keep"
)

// Quotas are the folders that a quota limits, in no order, without the accounts that use them.
func (o *Office) Quotas() []api.Quota {
	found := []api.Quota{}
	for _, u := range o.Ledger.Uses() {
		q := api.Quota{Store: u.Store, Folder: u.Folder, Quota: u.Quota, Used: u.Used, Counting: u.Counting, Accounts: []string{}}
		if !u.Counted.IsZero() {
			q.Counted = new(u.Counted.UTC())
		}
		found = append(found, q)
	}
	return found
}

// UsersOf names the accounts with a mount at a folder, by name.
func (o *Office) UsersOf(store, folder string) []string {
	return append([]string{}, o.places.users(quota.Spot{Store: store, Path: folder})...)
}

// FullestFirst is a key in whose order quotas stand: the fullest first.
func FullestFirst(q api.Quota) string {
	return fmt.Sprintf("%012d %s:%s", max(0, 1e9-int(1000*fullness(q))), q.Store, q.Folder)
}

// fullness is the part of a quota that is used, from 0.
func fullness(q api.Quota) float64 {
	most := 0.0
	if q.Quota.Bytes > 0 {
		most = float64(q.Used.Bytes) / float64(q.Quota.Bytes)
	}
	if q.Quota.Files > 0 {
		most = max(most, float64(q.Used.Files)/float64(q.Quota.Files))
	}
	return most
}

// nearlyFull is from which part on a quota stands in the report.
const nearlyFull = 0.8

func (o *Office) fullQuotas(_ context.Context, _ ReportAsk) ([]string, [][]string, error) {
	found := o.Quotas()
	slices.SortFunc(found, func(a, b api.Quota) int { return strings.Compare(FullestFirst(a), FullestFirst(b)) })
	var rows [][]string
	for _, q := range found {
		if fullness(q) < nearlyFull {
			continue
		}
		bytes, files := "any", "any"
		if q.Quota.Bytes > 0 {
			bytes = keep.SaySize(int64(q.Quota.Bytes))
		}
		if q.Quota.Files > 0 {
			files = fmt.Sprint(q.Quota.Files)
		}
		rows = append(rows, []string{q.Store + ":" + q.Folder, fmt.Sprintf("%.0f%%", 100*fullness(q)), keep.SaySize(int64(q.Used.Bytes)) + " of " + bytes, fmt.Sprint(q.Used.Files) + " of " + files, strings.Join(o.UsersOf(q.Store, q.Folder), ", ")})
	}
	return []string{"folder", "full", "bytes", "files", "accounts"}, rows, nil
}
