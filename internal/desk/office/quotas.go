package office

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"

	"urbankeep/internal/api"
	"urbankeep/internal/files/quota"
	"urbankeep/internal/keep"
)

// Quotas are the folders that a quota limits, the fullest first, with the accounts
// that use them.
func (o *Office) Quotas(ctx context.Context) ([]api.Quota, error) {
	accounts, err := o.DB.AllAccounts(ctx)
	if err != nil {
		return nil, err
	}
	users := map[quota.Spot][]string{}
	for _, a := range accounts {
		e, err := o.DB.Resolve(ctx, a)
		if err != nil {
			return nil, err
		}
		for _, m := range e.Mounts {
			spot := quota.Spot{Store: m.Store, Path: m.FolderFor(e.Name)}
			users[spot] = append(users[spot], e.Name)
		}
	}
	found := []api.Quota{}
	for _, u := range o.Ledger.Uses() {
		q := api.Quota{Store: u.Store, Folder: u.Folder, Quota: u.Quota, Used: u.Used, Counting: u.Counting, Accounts: users[quota.Spot{Store: u.Store, Path: u.Folder}]}
		if q.Accounts == nil {
			q.Accounts = []string{}
		}
		if !u.Counted.IsZero() {
			q.Counted = new(u.Counted.UTC())
		}
		found = append(found, q)
	}
	slices.SortFunc(found, func(a, b api.Quota) int {
		return cmp.Or(cmp.Compare(int(1000*fullness(b)), int(1000*fullness(a))), strings.Compare(a.Store+":"+a.Folder, b.Store+":"+b.Folder))
	})
	return found, nil
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

func (o *Office) fullQuotas(ctx context.Context, _ ReportAsk) ([]string, [][]string, error) {
	found, err := o.Quotas(ctx)
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
		rows = append(rows, []string{q.Store + ":" + q.Folder, fmt.Sprintf("%.0f%%", 100*fullness(q)), keep.SaySize(int64(q.Used.Bytes)) + " of " + bytes, fmt.Sprint(q.Used.Files) + " of " + files, strings.Join(q.Accounts, ", ")})
	}
	return []string{"folder", "full", "bytes", "files", "accounts"}, rows, err
}
