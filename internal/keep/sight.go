package keep

import (
	"path"
	"strings"
	"time"
)

// SeenBy is where the holder of an account sees what lies at a clean path of another account's tree, or of their own: "" when they see
// it nowhere at that time. Symbolic links are not followed.
func SeenBy(holder, other *Effective, at string, now time.Time) string {
	var from *Mount
	for i := range other.Mounts {
		if m := &other.Mounts[i]; Covers(m.At, at) && (from == nil || len(m.At) > len(from.At)) {
			from = m
		}
	}
	if from == nil {
		return ""
	}
	lies := path.Join(from.FolderFor(other.Name), strings.TrimPrefix(at, from.At))
	for _, m := range holder.Mounts {
		folder := m.FolderFor(holder.Name)
		below, inside := strings.CutPrefix(lies, folder+"/")
		if folder == "." {
			below, inside = lies, true
		}
		if m.Store != from.Store || !inside {
			continue
		}
		seen := path.Join(m.At, below)
		policy := NewPolicy(holder)
		if policy.MountOf(seen) != nil && policy.MountOf(seen).At == m.At && policy.See(seen, false, now).Allowed {
			return seen
		}
	}
	return ""
}

// Sight is what filters of notices ask of the accounts.
type Sight interface {
	// GroupsOf are the groups of an account.
	GroupsOf(account string) []string
	// SeenBy is where the holder of an account sees what a record is about, "" for nowhere.
	SeenBy(holder string, r *AuditRecord) string
}
