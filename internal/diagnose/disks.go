package diagnose

import (
	"fmt"
	"strings"

	"dravit/internal/about"
	"dravit/internal/cause"
	"dravit/internal/kind"
	"dravit/internal/lifecycle"
	"dravit/internal/pattern"
	"dravit/internal/trouble"
)

// disks checks the free space. It reports a full disk even if everything still answers: the next write fails.
func (d *doctor) disks() {
	short, over, wrong, refused := false, false, d.f.Stopped, ""
	for _, p := range d.f.Parts {
		wrong = wrong || p.Status.State != lifecycle.Answers
		short = short || p.Status.Code == trouble.NoSpace || noSpace().MatchString(p.Log)
		over = over || p.Status.Code == trouble.QuotaUsedUp || overQuota().MatchString(p.Log)
		if line := readOnlyLine().FindString(p.Log); line != "" && p.Status.State != lifecycle.Answers {
			refused = p.LogFile + ": " + strings.TrimSpace(line)
		}
	}
	r := seen
	if !wrong {
		r = aside
	}
	for _, disk := range d.f.Disks {
		switch {
		case wrong && disk.ReadOnly:
			d.add(r, cause.ReadOnly, about.Machine, "the file system of "+disk.Folder+" is read-only",
				"mount it for writing, or put Dravit's folder elsewhere: DRAVIT_HOME", disk.Of+"are there")
		case disk.Inodes > 0 && disk.InodesFree == 0:
			d.add(r, cause.InodesFull, about.Machine, "the disk has free space but no free inodes in "+disk.Folder,
				"delete many small files there: df -i", disk.Of+"are there",
				fmt.Sprintf("%d of %d files exist", disk.Inodes-disk.InodesFree, disk.Inodes))
		case disk.OverQuota:
			d.add(r, cause.QuotaFull, about.Machine,
				"the disk has free space, but what "+d.f.User+" may store in "+disk.Folder+
					" is used up", "delete files of yours there, or have the quota raised", disk.Of+"are there",
				"writing there ends with: disk quota exceeded")
		case disk.Free < minRoom && disk.Memory:
			d.add(r, cause.MemoryDiskFull, about.Machine, disk.Folder+", which is kept in memory, is full",
				"delete files there: df -h", disk.Of+"are there", fmt.Sprintf("%d KB are free", disk.Free>>10))
		case disk.Free < minRoom:
			d.add(r, cause.DiskFull, about.Machine, "the disk is full in "+disk.Folder, "free some space there: df -h",
				disk.Of+"are there", fmt.Sprintf("%d KB are free", disk.Free>>10))
		case wrong && short && disk.Free < tightRoom:
			d.add(r, map[bool]cause.ID{true: cause.MemoryDiskFull, false: cause.DiskFull}[disk.Memory], about.Machine,
				"the disk was full in "+disk.Folder, "free some space there: df -h", disk.Of+"are there",
				fmt.Sprintf("%d MB are free now", disk.Free>>20))
		}
	}
	if refused != "" && len(d.of(about.Machine)) == 0 {
		d.add(written, cause.ReadOnly, about.Machine, "a part writes to a file system that is read-only",
			"mount it for writing (findmnt -T PATH shows it), or give the part another folder", refused)
	}
	if wrong && over { // if it writes itself, or before something was removed
		d.add(written, cause.QuotaFull, about.Machine, "on some disk, what "+d.f.User+" may store is used up, or was",
			"delete files of yours, or have the quota raised", "a log says: disk quota exceeded")
	}
}

// What servers write when the system gives them ENOSPC, EDQUOT or EROFS (errno(3)).
var (
	noSpace      = pattern.New(kind.NoSpace + `|Errcode: 28|Disk is full`)
	overQuota    = pattern.New(kind.QuotaExceeded)
	readOnlyLine = pattern.New(`[^\n]*` + kind.ReadOnly + `[^\n]*`)
)

// minRoom is free space with which no server runs; tightRoom is enough to explain that a server found none.
const (
	minRoom   = 1 << 20
	tightRoom = 64 << 20
)
