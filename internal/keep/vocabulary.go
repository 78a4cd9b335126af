package keep

import (
	"fmt"
	"slices"
	"strings"
)

// Every word there is, for who searches: a word that is none of them can't be found, and
// must not look as if nothing had happened.
var (
	Actions = []Action{
		Connecting, SignIn, SignOut, Uploading, Downloading, Listing, MakeDir, RemoveDir, Deleting, Renaming, PuttingBack, Touching, Linking, Resizing, Hashing,
		PasswordChange, FactorSet, ServiceStart, ServiceStop, ServiceSet, OperatorSignIn, OperatorSignOut, OperatorAdd, OperatorSet, OperatorRemove, TokenAdd, PassAdd, PassEnd, PassUsed, Checking, LockBreak,
		AccessEnd, ListenerAdd, ListenerSet, ListenerRemove, CertificateSet, LockedOut, LockoutLift, AccountAdd, AccountSet, AccountSuspend, AccountResume,
		PasswordLinked, PasswordShown, AccountDelete, AccountsImport, Rehearsing, GroupAdd, GroupSet, GroupDelete, StoreAdd, StoreSet, StoreRemove, StoreUnlock, StoreMove, GroundsSet,
		GateSet, QuotaRecount, KeyAdd, KeySet, KeyRemove, ShelfAdd, ShelfSet, ShelfRemove, HostKeyAdd, HostKeyUse, HostKeyRemove, SessionEnd, TransferEnd, RetentionSet, AuditArchive,
		BackingUp, Restoring, CollectorSet, DurabilitySet, LimitsSet, Trouble, TroubleOver, NoticeAdd, NoticeSet, NoticeRemove, NoticeRetry, ReceiverAdd, ReceiverSet, ReceiverRemove, MailSet, SourceAdd, SourceSet, SourceRemove, SourceCheck, SourceSync, RoutesSet,
	}
	Reasons = []Reason{
		NoRight, ReadOnlyMount, Outside, NotFound, AlreadyThere, NotAFolder, IsAFolder, NotEmpty, MountPoint, AcrossMounts, BadName, BadRequest,
		ShutsYouOut, InClear, InUse, TooLarge, BadHash, DiskFull, Failure, TrailUnavailable, NetworkRefused, ProtocolRefused, MustChange, QuotaFull, BadCredentials,
		CodeNeeded, CodeUnset, PasswordToo, Suspended, NotYetValid, Expired, TooManySessions, NeedsEncryption, TurnedAway, LockedOutNow, TooManyAttempts, ClientGone,
		ClientAborted, Stalled, NoDataConnection, CutOff, StoreAway, Stopping, EndedByOperator, AccountChanged,
		CheckRefused, QuotaNearly, AccountEnds, KeyEnds, CertificateEnds, ListenerFailed, DiskNearly, CheckupWarns, TrailStuck, ReceiverAway, NotCome, SourceAway, SyncStopped,
	}
	Outcomes     = []Outcome{Done, Refused, Failed, Interrupted}
	AllProtocols = []Protocol{FTP, FTPS, SFTP, SCP, Portal, WebDAV, ByPass, Web, Console, Local}
)

// fewWords are listed whole by a refusal; of more only those that are alike.
const fewWords = 10

// CheckWord refuses a word that is not one of the known ones; "" is always fine. The error is
// a [*FieldError] that says which to use.
func CheckWord[T ~string](field, word string, known []T) error {
	if word == "" || slices.Contains(known, T(word)) {
		return nil
	}
	var use []string
	for _, k := range known {
		if len(known) <= fewWords || alike(word, string(k)) {
			use = append(use, string(k))
		}
	}
	if use == nil {
		return &FieldError{field, fmt.Sprintf("there is no %s %q: audit -h lists them all", field, word)}
	}
	return &FieldError{field, fmt.Sprintf("there is no %s %q: use %s", field, word, strings.Join(use, ", "))}
}

// alike reports whether a word may have been meant: it shares a part, or its beginning.
func alike(word, known string) bool {
	for part := range strings.SplitSeq(strings.ToLower(word), "-") {
		if len(part) >= 3 && strings.Contains(known, part) || len(part) >= 4 && strings.Contains(known, part[:3]) {
			return true
		}
	}
	return false
}
