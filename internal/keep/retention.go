package keep

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"
)

// Retention is how long audit records stay in the trail before they are sealed into
// archive files. The zero value keeps everything for ever.
type Retention struct {
	Days  int             `json:"days"` // 0: for ever
	Kinds []KindRetention `json:"kinds"`
}

// KindRetention is how long records of some actions stay.
type KindRetention struct {
	Actions []Action `json:"actions"`
	Days    int      `json:"days"` // 0: for ever
}

// mostDays bounds a retention: a hundred years.
const mostDays = 36_500

// Check reports what is wrong with it as a [*FieldError].
func (r *Retention) Check() error {
	if r.Days < 0 || r.Days > mostDays {
		return &FieldError{"days", fmt.Sprintf("use 1 to %d, or 0 for ever", mostDays)}
	}
	seen := map[Action]bool{}
	for _, k := range r.Kinds {
		if len(k.Actions) == 0 || k.Days < 0 || k.Days > mostDays {
			return &FieldError{"kinds", "each kind names actions, and days from 0 (for ever) on"}
		}
		for _, a := range k.Actions {
			if a == "" || seen[a] {
				return &FieldError{"kinds", fmt.Sprintf("the action %q stands there twice, or is empty", a)}
			}
			if err := CheckWord("kinds", string(a), Actions); err != nil {
				return err
			}
			seen[a] = true
		}
	}
	return nil
}

// days is how long a record of an action stays.
func (r *Retention) days(a Action) int {
	for _, k := range r.Kinds {
		if slices.Contains(k.Actions, a) {
			return k.Days
		}
	}
	return r.Days
}

// LetsGo reports whether a record has stayed long enough.
func (r *Retention) LetsGo(record *AuditRecord, now time.Time) bool {
	days := r.days(record.Action)
	return days > 0 && record.At.Before(now.AddDate(0, 0, -days))
}

// Shortest is the least number of days that any record stays; 0 when all stay for ever.
func (r *Retention) Shortest() int {
	shortest := r.Days
	for _, k := range r.Kinds {
		if k.Days > 0 && (shortest == 0 || k.Days < shortest) {
			shortest = k.Days
		}
	}
	return shortest
}

// UsualDays, as the days of a kind, says that it stays as long as everything else.
const UsualDays = -1

// ParseDays reads a number of days from 1 on, or ever.
func ParseDays(text string) (int, error) {
	if text == "ever" {
		return 0, nil
	}
	n, err := strconv.Atoi(text)
	if err != nil || n < 1 || n > mostDays {
		return 0, fmt.Errorf("%q is no number of days from 1 to %d, nor ever", text, mostDays)
	}
	return n, nil
}

// ParseKind reads ACTION,ACTION=DAYS, where DAYS may be ever or usual.
func ParseKind(text string) (KindRetention, error) {
	names, days, ok := strings.Cut(text, "=")
	if !ok || names == "" {
		return KindRetention{}, &FieldError{"kinds", fmt.Sprintf("%q is not ACTION,ACTION=DAYS, as in list,sign-out=30; ever keeps them, usual as long as all others", text)}
	}
	k := KindRetention{Days: UsualDays}
	for name := range strings.SplitSeq(names, ",") {
		name = strings.TrimSpace(name)
		if err := CheckWord("action", name, Actions); err != nil {
			return k, err
		}
		k.Actions = append(k.Actions, Action(name))
	}
	if days == "usual" {
		return k, nil
	}
	var err error
	if k.Days, err = ParseDays(days); err != nil {
		err = &FieldError{"kinds", fmt.Sprintf("%q is not ACTION,ACTION=DAYS: %v", text, err)}
	}
	return k, err
}

// Put says how long records of some actions stay; what is said of others stays as it is.
func (r *Retention) Put(k KindRetention) {
	kinds := []KindRetention{}
	for _, was := range r.Kinds {
		was.Actions = slices.DeleteFunc(slices.Clone(was.Actions), func(a Action) bool { return slices.Contains(k.Actions, a) })
		if len(was.Actions) > 0 {
			kinds = append(kinds, was)
		}
	}
	if r.Kinds = kinds; k.Days != UsualDays {
		r.Kinds = append(r.Kinds, k)
	}
}
