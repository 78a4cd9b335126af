package keep

import (
	"slices"
)

// Event is something about which somebody may want to be told, in one fixed word.
type Event string

// What accounts do with files.
const (
	EventUpload    Event = "upload" // a file has arrived whole, new or in place of another
	EventDownload  Event = "download"
	EventOverwrite Event = "overwrite" // an upload that took the place of a file
	EventDelete    Event = "delete"    // files and folders
	EventRename    Event = "rename"
	EventMkdir     Event = "mkdir"
	EventCutOff    Event = "cut-off" // a transfer that stopped in the middle
	// EventCheckRefused is an upload that its check refused.
	EventCheckRefused Event = "check-refused"
)

// What people do.
const (
	EventSignIn        Event = "sign-in"
	EventSignInRefused Event = "sign-in-refused"
	EventLockout       Event = "lockout"
	EventPassword      Event = "password-change"
	EventPassUse       Event = "pass-use" // a visitor begins to move files with a pass
	EventPassEnd       Event = "pass-end" // by hand or by its time
)

// Troubles of the house. Each is told when it begins; [EventTroubleOver] when it is over.
const (
	EventQuotaNearly     Event = "quota-nearly-full"
	EventAccountEnds     Event = "account-ends-soon"
	EventKeyEnds         Event = "key-ends-soon"
	EventCertificateEnds Event = "certificate-ends-soon"
	EventListenerFailed  Event = "listener-failed"
	EventStoreAway       Event = "store-away"
	EventDiskNearly      Event = "disk-nearly-full"
	EventCheckup         Event = "checkup-warning"
	EventTrailStuck      Event = "trail-stuck"
	EventReceiverAway    Event = "receiver-away"
	EventSourceAway      Event = "source-away"
	EventSyncStopped     Event = "sync-stopped"
	EventUploadNotCome   Event = "not-come" // an upload that was expected by a time
	EventTroubleOver     Event = "trouble-over"
)

// EventFacts says about an event what its filters need to know.
type EventFacts struct {
	Event   Event
	Says    string // for people
	Files   bool   // there are paths, sizes, protocols, outcomes
	People  bool   // somebody does it: there are accounts, protocols and networks
	Account bool   // a trouble of an account
	of      []Action
}

// Events are all there are.
var Events = []EventFacts{
	{EventUpload, "a file has arrived", true, true, false, []Action{Uploading, Checking}},
	{EventOverwrite, "a file was replaced by an upload", true, true, false, []Action{Uploading, Checking}},
	{EventDownload, "a file was fetched", true, true, false, []Action{Downloading}},
	{EventDelete, "a file or folder was deleted", true, true, false, []Action{Deleting, RemoveDir}},
	{EventRename, "a file or folder was renamed", true, true, false, []Action{Renaming}},
	{EventMkdir, "a folder was made", true, true, false, []Action{MakeDir}},
	{EventCutOff, "a transfer stopped in the middle", true, true, false, []Action{Uploading, Downloading}},
	{EventCheckRefused, "an upload was refused by its check", true, true, false, []Action{Checking}},
	{EventSignIn, "an account signed in", false, true, false, []Action{SignIn}},
	{EventSignInRefused, "a sign-in was refused", false, true, false, []Action{SignIn}},
	{EventLockout, "an address or account was locked out", false, true, false, []Action{LockedOut}},
	{EventPassword, "an account's password was changed", false, true, false, []Action{PasswordChange}},
	{EventPassUse, "a visitor used a pass", false, true, false, []Action{PassUsed}},
	{EventPassEnd, "a pass ended", false, true, false, []Action{PassEnd}},
	{EventQuotaNearly, "a quota is nearly full", false, false, true, []Action{Trouble}},
	{EventAccountEnds, "an account ends soon", false, false, true, []Action{Trouble}},
	{EventKeyEnds, "a key ends soon", false, false, true, []Action{Trouble}},
	{EventCertificateEnds, "a certificate ends soon", false, false, false, []Action{Trouble}},
	{EventListenerFailed, "a listener can't listen", false, false, false, []Action{Trouble}},
	{EventStoreAway, "a store is away", false, false, false, []Action{Trouble}},
	{EventDiskNearly, "a disk is nearly full", false, false, false, []Action{Trouble}},
	{EventCheckup, "the check-up finds something new", false, false, false, []Action{Trouble}},
	{EventTrailStuck, "the audit trail can't be written", false, false, false, []Action{Trouble}},
	{EventReceiverAway, "a receiver of notices can't be reached", false, false, false, []Action{Trouble}},
	{EventSourceAway, "a source of people can't be asked", false, false, false, []Action{Trouble}},
	{EventSyncStopped, "accounts are not kept in step with their source", false, false, false, []Action{Trouble}},
	{EventUploadNotCome, "an upload or download that was expected did not come", false, false, true, []Action{Trouble}},
	{EventTroubleOver, "one of the troubles above is over", false, false, true, []Action{TroubleOver}},
}

// FactsOf finds an event; nil when there is none of that word.
func FactsOf(e Event) *EventFacts {
	if i := slices.IndexFunc(Events, func(f EventFacts) bool { return f.Event == e }); i >= 0 {
		return &Events[i]
	}
	return nil
}

// EventOf is what a record tells of, as far as it is an event: "" when it is none. Over says that a trouble has ended. An
// upload that replaced a file is both [EventUpload] and [EventOverwrite].
func EventOf(r *AuditRecord) (e Event, over bool) {
	if r.Rehearsal {
		return "", false
	}
	if r.Outcome == Interrupted && (r.Action == Uploading || r.Action == Downloading) {
		return EventCutOff, false
	}
	switch r.Action {
	case Uploading:
		if r.Outcome != Done || r.Arrived() {
			return EventUpload, false
		}
	case Checking:
		if r.Outcome == Done {
			return EventUpload, false
		}
		return EventCheckRefused, false
	case Downloading:
		return EventDownload, false
	case Deleting, RemoveDir:
		return EventDelete, false
	case Renaming:
		return EventRename, false
	case MakeDir:
		return EventMkdir, false
	case SignIn:
		if r.Outcome == Done {
			return EventSignIn, false
		}
		return EventSignInRefused, false
	case LockedOut:
		return EventLockout, false
	case PasswordChange:
		return EventPassword, false
	case PassUsed:
		return EventPassUse, false
	case PassEnd:
		return EventPassEnd, false
	case Trouble, TroubleOver:
		return Event(r.Reason), r.Action == TroubleOver
	}
	return "", false
}

// ActionsOf are the actions of the records that may be one of some events.
func ActionsOf(events []Event) (found []Action) {
	for _, e := range events {
		if f := FactsOf(e); f != nil {
			found = append(found, f.of...)
		}
	}
	slices.Sort(found)
	return slices.Compact(found)
}
