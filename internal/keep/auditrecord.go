package keep

import "time"

// Action is what was done or tried, in one fixed word.
type Action string

// What account holders do.
const (
	Connecting     Action = "connect" // refused: who connects is not recorded, who signs in is
	SignIn         Action = "sign-in"
	SignOut        Action = "sign-out"
	Uploading      Action = "upload"
	Downloading    Action = "download"
	Listing        Action = "list"
	MakeDir        Action = "mkdir"
	RemoveDir      Action = "rmdir"
	Deleting       Action = "delete"
	Renaming       Action = "rename"
	PuttingBack    Action = "put-back" // what was deleted, from the bin
	Touching       Action = "touch"
	Linking        Action = "link"
	Resizing       Action = "truncate"
	Hashing        Action = "hash"
	PasswordChange Action = "password-change"
	FactorSet      Action = "factor-set" // one-time codes or a passkey of an account, by its holder or by an operator
)

// What operators and the service do.
const (
	ServiceStart    Action = "service-start"
	ServiceStop     Action = "service-stop"
	ServiceSet      Action = "service-set"
	OperatorSignIn  Action = "operator-sign-in"
	OperatorSignOut Action = "operator-sign-out"
	OperatorAdd     Action = "operator-add"
	OperatorSet     Action = "operator-set"
	OperatorRemove  Action = "operator-remove"
	TokenAdd        Action = "token-add"
	PassAdd         Action = "pass-add" // by a holder or an operator
	PassEnd         Action = "pass-end"
	Checking        Action = "check"        // whether a held upload may appear: done is yes, refused is no
	PassUsed        Action = "pass-use"     // a visitor begins to move files with it
	Trouble         Action = "trouble"      // the service finds something wrong; the reason says what
	TroubleOver     Action = "trouble-over" // and that it is so no more
	NoticeAdd       Action = "notice-add"   // by a holder or an operator
	NoticeSet       Action = "notice-set"
	NoticeRemove    Action = "notice-remove"
	NoticeRetry     Action = "notice-retry"
	ReceiverAdd     Action = "receiver-add"
	ReceiverSet     Action = "receiver-set"
	ReceiverRemove  Action = "receiver-remove"
	MailSet         Action = "mail-set"
	SourceAdd       Action = "source-add"
	SourceSet       Action = "source-set"
	SourceRemove    Action = "source-remove"
	SourceCheck     Action = "source-check" // an operator tries it
	SourceSync      Action = "source-sync"  // the accounts of a source were brought in step with it
	RoutesSet       Action = "routes-set"
	LockBreak       Action = "lock-break" // of a WebDAV client
	AccessEnd       Action = "access-end" // a console sign-in or an API token, ended by an operator
	ListenerAdd     Action = "listener-add"
	ListenerSet     Action = "listener-set"
	ListenerRemove  Action = "listener-remove"
	CertificateSet  Action = "certificate-set"
	LockedOut       Action = "lockout"
	LockoutLift     Action = "lockout-lift"
	AccountAdd      Action = "account-add"
	AccountSet      Action = "account-set"
	AccountSuspend  Action = "account-suspend"
	AccountResume   Action = "account-resume"
	PasswordLinked  Action = "password-link"  // a new password waits behind a link
	PasswordShown   Action = "password-shown" // the link was opened
	AccountDelete   Action = "account-delete"
	AccountsImport  Action = "accounts-import"
	Rehearsing      Action = "rehearsal" // with an account: its sign-in; with an operator: what came of it
	GroupAdd        Action = "group-add"
	GroupSet        Action = "group-set"
	GroupDelete     Action = "group-delete"
	StoreAdd        Action = "store-add"
	StoreSet        Action = "store-set"
	StoreRemove     Action = "store-remove"
	StoreUnlock     Action = "store-unlock"
	StoreMove       Action = "store-move"
	GroundsSet      Action = "store-grounds-set"
	GateSet         Action = "gate-set"
	QuotaRecount    Action = "quota-recount"
	KeyAdd          Action = "key-add"
	KeySet          Action = "key-set"
	KeyRemove       Action = "key-remove"
	ShelfAdd        Action = "shelf-add"
	ShelfSet        Action = "shelf-set"
	ShelfRemove     Action = "shelf-remove"
	HostKeyAdd      Action = "host-key-add"
	HostKeyUse      Action = "host-key-use"
	HostKeyRemove   Action = "host-key-remove"
	SessionEnd      Action = "session-end"
	TransferEnd     Action = "transfer-end"
	RetentionSet    Action = "retention-set"
	AuditArchive    Action = "audit-archive"
	BackingUp       Action = "backup"
	Restoring       Action = "restore"
	CollectorSet    Action = "collector-set"
	DurabilitySet   Action = "durability-set"
	LimitsSet       Action = "limits-set"
)

// Outcome is how it ended.
type Outcome string

// The outcomes.
const (
	Done        Outcome = "done"
	Refused     Outcome = "refused"     // a rule said no
	Failed      Outcome = "failed"      // it could not be done
	Interrupted Outcome = "interrupted" // it stopped in the middle; Bytes says how far it came
)

// AuditRecord is one thing that happened: who, from where, over what, did what,
// to which path, how it ended. The audit trail never changes one.
type AuditRecord struct {
	Seq       int64     // place in the trail, from 1 without a gap
	At        time.Time // UTC, to the microsecond
	Account   string    // who moved files, "" when an operator or the service acted
	Operator  string    // who administered
	Address   string    // the client's IP address
	Protocol  Protocol
	Encrypted bool
	Session   string // links the records of one session
	Action    Action
	Path      string // in the account's tree
	Target    string // the other end of a rename or link; the account or key an operator changed
	Offset    int64  // where in the file a transfer began, bytes
	Bytes     int64  // moved by a transfer
	Duration  time.Duration
	Outcome   Outcome
	Reason    Reason
	Detail    string // a sentence for people, which nothing reads
	Facts
}

// Arrived reports whether it is an upload with which a file was there whole, or the check that let it in.
func (r *AuditRecord) Arrived() bool {
	return r.Outcome == Done && (r.Action == Checking || r.Action == Uploading && !r.Piece && !r.Held)
}

// OutcomeOf sorts a fault into refused, interrupted or failed; nil is done.
func OutcomeOf(err error) (Outcome, Reason, string) {
	if err == nil {
		return Done, NoReason, ""
	}
	fault := FaultOf(err)
	switch fault.Reason {
	case ClientGone, ClientAborted, Stalled, CutOff, Stopping, EndedByOperator, AccountChanged:
		return Interrupted, fault.Reason, fault.Say
	case QuotaFull, NetworkRefused, ProtocolRefused, MustChange, NoRight, ReadOnlyMount, Outside, MountPoint, BadName, BadCredentials, Suspended, NotYetValid, Expired, TooManySessions, TooLarge, NeedsEncryption, TooManyAttempts, TurnedAway, LockedOutNow:
		return Refused, fault.Reason, fault.Say
	}
	return Failed, fault.Reason, fault.Say
}
