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

// ParseKind reads a kind as ACTION,ACTION=DAYS; "ever" for 0.
func ParseKind(text string) (k KindRetention, err error) {
	names, days, ok := strings.Cut(text, "=")
	if k.Days, err = strconv.Atoi(days); days == "ever" {
		err = nil
	}
	if !ok || err != nil || names == "" {
		return k, &FieldError{"kinds", fmt.Sprintf("%q is not ACTION,ACTION=DAYS, as in list,sign-out=30; ever keeps them", text)}
	}
	for name := range strings.SplitSeq(names, ",") {
		k.Actions = append(k.Actions, Action(strings.TrimSpace(name)))
	}
	return k, nil
}
