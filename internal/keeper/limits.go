package keeper

import "syscall"

// openFiles is how many files a part may have open: enough for a database, and few enough for programs that close every
// number up to the limit in their children.
const openFiles = 65536

// openFilesMac is what macOS takes at most where the hard limit is infinite (setrlimit(2), OPEN_MAX).
const openFilesMac = 10240

// raiseFileLimit raises the limit of open files for this process and those that it starts, as far as the hard limit
// lets it. Shells begin with 256 on macOS and 1024 on Linux, and a keeper would pass on the limit of the shell from
// which it was started, whatever later ones have. If the system refuses, the limit stays.
func raiseFileLimit() {
	var limit syscall.Rlimit
	if syscall.Getrlimit(syscall.RLIMIT_NOFILE, &limit) != nil {
		return
	}
	hard := limit.Max
	for _, most := range []uint64{openFiles, openFilesMac} {
		// Go's runtime has raised the limit of this process already; this call makes it pass the limit on, too.
		if limit.Cur = min(most, hard); syscall.Setrlimit(syscall.RLIMIT_NOFILE, &limit) == nil {
			return
		}
	}
}
