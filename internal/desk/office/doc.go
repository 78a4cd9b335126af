// Package office is what operators do: each change is checked, saved, put in
// the audit trail with its before and after, and brought to bear on the
// sessions that are live.
//
// It knows records, the trail and the live sessions through [Live]. It knows no
// HTTP and no command line; both come here.
package office
