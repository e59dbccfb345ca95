package proc

import (
	"bytes"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"golang.org/x/sys/unix"
)

// Processes lists the running processes of this user, without zombies. mark names the environment variable whose value
// Mark gets. Processes that end during the call may be missing.
func Processes(mark string) ([]Process, error) {
	var all []Process
	uid := uint32(os.Geteuid())
	err := eachProcess(func(pid int) {
		var info unix.Stat_t
		if unix.Stat(fmt.Sprintf("/proc/%d", pid), &info) != nil {
			return
		}
		// The entry of a program with file capabilities is root's, though the process is its user's (proc(5)). What
		// this user may signal is this user's process (kill(2)).
		if info.Uid != uid && unix.Kill(pid, 0) != nil {
			return
		}
		s, err := statOf(pid)
		if err != nil || s.dead {
			return
		}
		p := Process{
			Identity: Identity{Boot: BootID(), PID: pid, Start: s.start},
			Parent:   s.parent,
			Session:  s.session,
		}
		env, _ := os.ReadFile(fmt.Sprintf("/proc/%d/environ", pid)) // not readable: it has no mark
		p.Mark = variable(string(env), mark)
		p.Locks = locksOf(pid)
		all = append(all, p)
	})
	return all, err
}

// Children returns the process ids of a process's children, zombies included, in ascending order.
func Children(pid int) []int {
	var all []int
	threads, _ := os.ReadDir(fmt.Sprintf("/proc/%d/task", pid)) // a child belongs to the thread that started it
	for _, thread := range threads {
		text, _ := os.ReadFile(fmt.Sprintf("/proc/%d/task/%s/children", pid, thread.Name()))
		for _, f := range strings.Fields(string(text)) {
			if child, err := strconv.Atoi(f); err == nil {
				all = append(all, child)
			}
		}
	}
	slices.Sort(all)
	return all
}

// Pinned reports whether the number still belongs to that process, which runs or was not yet waited for.
func (id Identity) Pinned() bool {
	s, err := statOf(id.PID)
	return err == nil && s.start == id.Start && id.Boot == BootID()
}

// locksOf returns the lock files whose lock a process holds (flock).
func locksOf(pid int) []string {
	var locks []string
	eachDescriptor(pid, func(link, target string) bool {
		target = strings.TrimSuffix(target, " (deleted)")
		if filepath.Ext(target) != ".lock" {
			return true
		}
		if locked(link) && !slices.Contains(locks, target) {
			locks = append(locks, target)
		}
		return true
	})
	return locks
}

// stat holds fields of /proc/PID/stat (proc(5)).
type stat struct {
	dead    bool // a zombie, or about to vanish
	parent  int
	session int
	start   uint64 // clock ticks since boot
}

func statOf(pid int) (stat, error) {
	text, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
	if err != nil {
		return stat{}, err
	}
	// The command's name may contain anything, so count from its closing bracket: state is field 3, starttime 22.
	fields := bytes.Fields(text[bytes.LastIndexByte(text, ')')+1:])
	if len(fields) < 20 {
		return stat{}, fmt.Errorf("/proc/%d/stat is too short", pid)
	}
	s := stat{dead: fields[0][0] == 'Z' || fields[0][0] == 'X'}
	s.parent, _ = strconv.Atoi(string(fields[1]))
	s.session, _ = strconv.Atoi(string(fields[3]))
	s.start, err = strconv.ParseUint(string(fields[19]), 10, 64)
	return s, err
}

// nameOf returns the name of a process's program, "" if the process is gone.
func nameOf(pid int) string {
	text, _ := os.ReadFile(fmt.Sprintf("/proc/%d/comm", pid))
	return strings.TrimSpace(string(text))
}

func startOf(pid int) (uint64, error) {
	s, err := statOf(pid)
	if err == nil && s.dead {
		return 0, os.ErrProcessDone
	}
	return s.start, err
}
