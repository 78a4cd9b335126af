package keep

import (
	"errors"
	"fmt"
)

// Reason says, in one fixed word, why something was refused or failed. It is
// the same word in a reply, the audit trail, the API and the console.
type Reason string

// Every reason there is.
const (
	NoReason         Reason = ""
	NoRight          Reason = "no-right"            // no grant gives the right on this path
	ReadOnlyMount    Reason = "read-only-mount"     // the mount is read-only whatever the grants say
	Outside          Reason = "outside"             // the path would leave the tree
	NotFound         Reason = "not-found"           // nothing has this name
	AlreadyThere     Reason = "already-there"       // the name is taken
	NotAFolder       Reason = "not-a-folder"        // a folder was needed
	IsAFolder        Reason = "is-a-folder"         // a file was needed
	NotEmpty         Reason = "not-empty"           // the folder holds something
	MountPoint       Reason = "mount-point"         // a mount can't be removed, renamed or replaced
	AcrossMounts     Reason = "across-mounts"       // the two ends are in different mounts
	BadName          Reason = "bad-name"            // the name can't be used
	BadRequest       Reason = "bad-request"         // the client asked for something that makes no sense here
	ShutsYouOut      Reason = "shuts-you-out"       // the rule would shut out the operator who makes it
	InClear          Reason = "in-clear"            // passwords would go without encryption
	InUse            Reason = "in-use"              // something still needs it
	TooLarge         Reason = "too-large"           // the file would be larger than the account may write
	BadHash          Reason = "bad-hash"            // what came has not the hash that was announced
	DiskFull         Reason = "disk-full"           // the store has no room
	Failure          Reason = "failure"             // the store or the service failed; the log has the cause
	TrailUnavailable Reason = "trail-unavailable"   // the audit trail can't be written, so nothing is acknowledged
	NetworkRefused   Reason = "network-refused"     // the account may not sign in from this address
	ProtocolRefused  Reason = "protocol-refused"    // the account may not sign in over this protocol
	MustChange       Reason = "must-change"         // the password must be changed first
	QuotaFull        Reason = "quota-full"          // the place holds as much as it may
	BadCredentials   Reason = "bad-credentials"     // wrong name, password or key; never says which
	CodeNeeded       Reason = "code-needed"         // the password is right, a one-time code must come with it
	CodeUnset        Reason = "code-unset"          // one-time codes must be set up first
	PasswordToo      Reason = "password-too"        // the key is right, the password must follow
	Suspended        Reason = "suspended"           // the account may not sign in
	NotYetValid      Reason = "not-yet-valid"       // the account's time has not begun
	Expired          Reason = "expired"             // the account's time has ended
	TooManySessions  Reason = "too-many-sessions"   // the account has as many as it may
	NeedsEncryption  Reason = "encryption-required" // the listener refuses to talk in clear
	TurnedAway       Reason = "turned-away"         // the network rules or a lockout do not let the address in
	LockedOutNow     Reason = "locked-out"          // the account is locked out after failed sign-ins
	TooManyAttempts  Reason = "too-many-attempts"   // too many failed sign-ins, wait
	ClientGone       Reason = "client-gone"         // the client left in the middle
	ClientAborted    Reason = "client-aborted"      // the client asked to stop
	Stalled          Reason = "stalled"             // nothing moved for too long
	NoDataConnection Reason = "no-data-connection"  // the data connection never came
	CutOff           Reason = "cut-off"             // the service ended, or the power, while it was under way
	StoreAway        Reason = "store-away"          // a store is not where it should be, does not answer, or takes no writes
	SourceAway       Reason = "source-away"         // who says whether somebody is who they say can't be asked
	Stopping         Reason = "stopping"            // the service is stopping
	EndedByOperator  Reason = "ended-by-operator"   // an operator ended the session
	AccountChanged   Reason = "account-changed"     // the account was suspended, deleted or narrowed

	CheckRefused Reason = "check-refused" // the check of an upload said no, or nothing

	// Of troubles, beside [StoreAway]:
	QuotaNearly     Reason = "quota-nearly-full"
	AccountEnds     Reason = "account-ends-soon"
	KeyEnds         Reason = "key-ends-soon"
	CertificateEnds Reason = "certificate-ends-soon"
	ListenerFailed  Reason = "listener-failed"
	DiskNearly      Reason = "disk-nearly-full"
	CheckupWarns    Reason = "checkup-warning"
	TrailStuck      Reason = "trail-stuck"
	ReceiverAway    Reason = "receiver-away"
	SyncStopped     Reason = "sync-stopped" // the accounts of a source are not in step with it
	NotCome         Reason = "not-come"     // an upload that was expected
)

// Fault is the one error that protocols and the API may show: a reason and a
// sentence without any real path. Cause, when there is one, is for the log only.
type Fault struct {
	Reason Reason
	Say    string
	Cause  error
}

func (f *Fault) Error() string { return f.Say }

// Unwrap gives the cause, for logs and errors.Is.
func (f *Fault) Unwrap() error { return f.Cause }

// Refuse makes a Fault without a cause.
func Refuse(reason Reason, say string) *Fault { return &Fault{Reason: reason, Say: say} }

// databaseFull is SQLite's primary result code for a disk that is full (SQLITE_FULL).
const databaseFull = 13

// FaultOf finds the Fault in err, or wraps err as a [Failure] whose text gives
// nothing away.
func FaultOf(err error) *Fault {
	var fault *Fault
	if errors.As(err, &fault) {
		return fault
	}
	var engine interface{ Code() int } // of the database
	if errors.As(err, &engine) && engine.Code()&0xff == databaseFull {
		return &Fault{Reason: DiskFull, Say: "the disk of the service's own records is full: tell the administrator", Cause: err}
	}
	return &Fault{Reason: Failure, Say: "the service failed; its log says why", Cause: err}
}

// FieldError names the field of a request that is wrong and says what to do.
type FieldError struct {
	Field string // as the API and the command line name it
	Say   string
}

func (e *FieldError) Error() string { return e.Field + ": " + e.Say }

// NoSuch refuses what is about a thing that there isn't: an account, a group, a listener and so on, of which a
// command lists those there are.
func NoSuch(kind, name string) *Fault {
	return Refuse(NotFound, fmt.Sprintf("no such %s: %q; %s list shows the ones there are", kind, name, kind))
}
