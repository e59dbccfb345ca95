package proc

import (
	"encoding/binary"
	"os"
	"strings"

	"github.com/shirou/gopsutil/v4/process"
	"golang.org/x/sys/unix"
)

const zombie = 5 // SZOMB of sys/proc.h

// Processes lists the running processes of this user, without zombies. mark names the environment variable whose value
// Mark gets. Processes that end during the call may be missing.
func Processes(mark string) ([]Process, error) {
	infos, err := unix.SysctlKinfoProcSlice("kern.proc.uid", os.Geteuid())
	if err != nil {
		return nil, err
	}
	var all []Process
	for _, info := range infos {
		if info.Proc.P_stat == zombie {
			continue
		}
		pid := int(info.Proc.P_pid)
		p := Process{
			Identity: Identity{Boot: BootID(), PID: pid, Start: started(&info)},
			Parent:   int(info.Eproc.Ppid),
			Mark:     variable(environment(pid), mark),
			Locks:    thisMac.locks(pid),
		}
		p.Session, _ = unix.Getsid(pid) // it ended meanwhile: no session
		all = append(all, p)
	}
	return all, nil
}

// Children returns the process ids of a process's children, in the system's order.
func Children(pid int) []int {
	infos, _ := unix.SysctlKinfoProcSlice("kern.proc.uid", os.Geteuid())
	var all []int
	for _, info := range infos {
		if int(info.Eproc.Ppid) == pid {
			all = append(all, int(info.Proc.P_pid))
		}
	}
	return all
}

// Pinned reports whether the number still belongs to that process, which runs or was not yet waited for.
func (id Identity) Pinned() bool {
	info, err := unix.SysctlKinfoProc("kern.proc.pid", id.PID)
	return err == nil && started(info) == id.Start && id.Boot == BootID()
}

// nameOf returns the name of a process's program, or "" if the process is gone.
func nameOf(pid int) string {
	p, err := process.NewProcess(int32(pid))
	if err != nil {
		return ""
	}
	name, _ := p.Name()
	return name
}

func started(info *unix.KinfoProc) uint64 {
	return uint64(info.Proc.P_starttime.Sec)*1e6 + uint64(info.Proc.P_starttime.Usec)
}

// environment returns the environment block of one of this user's processes: after the count of arguments, the
// program's path and the arguments themselves (sysctl(3), KERN_PROCARGS2).
func environment(pid int) string {
	raw, err := unix.SysctlRaw("kern.procargs2", pid)
	if err != nil || len(raw) < 4 {
		return ""
	}
	arguments := int(binary.NativeEndian.Uint32(raw))
	_, rest, _ := strings.Cut(string(raw[4:]), "\x00")
	rest = strings.TrimLeft(rest, "\x00")
	for range arguments {
		_, rest, _ = strings.Cut(rest, "\x00")
	}
	return rest
}
