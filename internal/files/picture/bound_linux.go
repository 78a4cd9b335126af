package picture

import (
	"runtime/debug"

	"golang.org/x/sys/unix"
)

// bound gives this process little: memory, seconds of a processor, no file to write.
func bound() error {
	debug.SetMemoryLimit(maxMemory * 3 / 4)
	for what, most := range map[int]uint64{unix.RLIMIT_DATA: maxMemory, unix.RLIMIT_CPU: maxSeconds, unix.RLIMIT_FSIZE: 0, unix.RLIMIT_CORE: 0} {
		if err := unix.Setrlimit(what, &unix.Rlimit{Cur: most, Max: most}); err != nil {
			return err
		}
	}
	return nil
}
