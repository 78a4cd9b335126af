package tree

import (
	"errors"
	"io/fs"
	"syscall"

	"urbankeep/internal/files/store"
	"urbankeep/internal/keep"
)

// asFault turns an error of the file system into one that may be shown: the
// reason and a sentence, without the path that the system put in its own.
func asFault(err error) error {
	if err == nil {
		return nil
	}
	var fault *keep.Fault
	if errors.As(err, &fault) {
		return fault
	}
	reason, say := keep.Failure, "the service could not do it; its log says why"
	switch {
	case errors.Is(err, store.ErrLink), errors.Is(err, errSwapped), errors.Is(err, errFolder):
		reason, say = keep.Failure, "the name is being changed by somebody else: try again"
	case errors.Is(err, fs.ErrNotExist):
		reason, say = keep.NotFound, "no such file or folder"
	case errors.Is(err, syscall.ENOTEMPTY): // before ErrExist, which it also is on some systems
		reason, say = keep.NotEmpty, "the folder is not empty"
	case errors.Is(err, fs.ErrExist):
		reason, say = keep.AlreadyThere, "the name is taken"
	case errors.Is(err, syscall.ENOTDIR):
		reason, say = keep.NotAFolder, "that is not a folder"
	case errors.Is(err, syscall.EISDIR):
		reason, say = keep.IsAFolder, "that is a folder"
	case errors.Is(err, syscall.ENOSPC), errors.Is(err, syscall.EDQUOT):
		reason, say = keep.DiskFull, "the disk is full"
	case errors.Is(err, syscall.EXDEV):
		reason, say = keep.AcrossMounts, "the two ends are on different disks: copy the file, then delete the first"
	case errors.Is(err, syscall.ENAMETOOLONG):
		reason, say = keep.BadName, "the name is too long"
	case errors.Is(err, syscall.ELOOP):
		reason, say = keep.Outside, "too many links follow one another"
	case errors.Is(err, fs.ErrPermission):
		reason, say = keep.Failure, "the service's own user may not do that on the disk; tell the administrator"
	case errors.Is(err, fs.ErrInvalid), errors.Is(err, syscall.EINVAL):
		reason, say = keep.BadRequest, "that can't be done here"
	case errors.Is(err, syscall.EFBIG):
		reason, say = keep.TooLarge, "the disk holds no file of that size"
	}
	return &keep.Fault{Reason: reason, Say: say, Cause: err}
}
