package command

import (
	"flag"
	"os"
	"path/filepath"
	"runtime"
)

// SocketName is the control socket in the data folder: who may open it is the
// machine's own administrator.
const SocketName = "control.sock"

// DataFlag declares -data: the data folder, else URBANKEEP_DATA, else the
// system's usual place.
func DataFlag(flags *flag.FlagSet) *string {
	return flags.String("data", DataDir(), "the data `folder`; its default comes from URBANKEEP_DATA where that is set")
}

// DataDir is the data folder when no flag names one.
func DataDir() string {
	if dir := os.Getenv("URBANKEEP_DATA"); dir != "" {
		return dir
	}
	if runtime.GOOS == "linux" && os.Geteuid() == 0 {
		return "/var/lib/urbankeep"
	}
	dir, err := os.UserConfigDir()
	if err != nil {
		return "urbankeep-data"
	}
	return filepath.Join(dir, "urbankeep")
}
