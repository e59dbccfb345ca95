package proc

import (
	"os"
	"sync"

	"github.com/ebitengine/purego"
	"golang.org/x/sys/unix"
)

// Flavours of libproc(3).
const (
	listDescriptors = 1 // PROC_PIDLISTFDS
	vnodePathInfo   = 2 // PROC_PIDFDVNODEPATHINFO
	socketInfo      = 3 // PROC_PIDFDSOCKETINFO
)

// libproc holds the functions of libproc(3). Both return the bytes written, or 0 or less on failure. Without a buffer,
// pidInfo returns the size that one needs.
type libproc struct {
	pidInfo   func(pid, flavour int32, arg uint64, buffer []byte, size int32) int32
	pidFDInfo func(pid, number, flavour int32, buffer []byte, size int32) int32
}

var loadLibproc = sync.OnceValue(func() libproc {
	var l libproc
	library, err := purego.Dlopen("/usr/lib/libSystem.B.dylib", purego.RTLD_LAZY|purego.RTLD_GLOBAL)
	if err != nil {
		return libproc{
			pidInfo:   func(int32, int32, uint64, []byte, int32) int32 { return 0 },
			pidFDInfo: func(int32, int32, int32, []byte, int32) int32 { return 0 },
		}
	}
	purego.RegisterLibFunc(&l.pidInfo, library, "proc_pidinfo")
	purego.RegisterLibFunc(&l.pidFDInfo, library, "proc_pidfdinfo")
	return l
})

// thisMac answers from the running system.
var thisMac = openFiles{
	processes:   ownProcesses,
	descriptors: descriptorsOf,
	vnode:       func(pid, number int) []byte { return descriptorInfo(pid, number, vnodePathInfo, vnodeInfoSize) },
	socket:      func(pid, number int) []byte { return descriptorInfo(pid, number, socketInfo, socketInfoSize) },
}

func ownProcesses() []int {
	infos, _ := unix.SysctlKinfoProcSlice("kern.proc.uid", os.Geteuid())
	var pids []int
	for _, info := range infos {
		if info.Proc.P_stat != zombie {
			pids = append(pids, int(info.Proc.P_pid))
		}
	}
	return pids
}

func descriptorsOf(pid int) []byte {
	l := loadLibproc()
	size := l.pidInfo(int32(pid), listDescriptors, 0, nil, 0)
	if size <= 0 {
		return nil
	}
	buffer := make([]byte, size+32*fdInfoSize) // it may open some more meanwhile
	n := l.pidInfo(int32(pid), listDescriptors, 0, buffer, int32(len(buffer)))
	return buffer[:max(n, 0)]
}

func descriptorInfo(pid, number int, flavour int32, size int) []byte {
	buffer := make([]byte, size)
	n := loadLibproc().pidFDInfo(int32(pid), int32(number), flavour, buffer, int32(size))
	return buffer[:max(n, 0)]
}
