package examine

import (
	"cmp"
	"errors"
	"os"

	"golang.org/x/sys/unix"

	"dravit/internal/diagnose"
	"dravit/internal/home"
	"dravit/internal/materialise"
)

// Disks describes the file systems that the stack uses.
func Disks(h *home.Home, spec materialise.Spec) []diagnose.Disk {
	var out []diagnose.Disk
	for _, x := range []struct {
		folder, of string
		ours       bool
	}{{h.Dir, "Dravit's folder with data and logs", true},
		{h.Run, "the sockets", true},
		{spec.Dir, "the project's files", false},
		{os.TempDir(), "temporary files", false}} {
		var st unix.Statfs_t
		if x.folder == "" || unix.Statfs(x.folder, &st) != nil {
			continue
		}
		out = append(out, diagnose.Disk{Folder: x.folder, Of: x.of, Free: uint64(st.Bavail) * uint64(st.Bsize),
			Inodes: uint64(st.Files), InodesFree: uint64(st.Ffree),
			Memory: inMemory(st), ReadOnly: readOnly(st),
			OverQuota: x.ours && errors.Is(tryWriting(x.folder), unix.EDQUOT)})
	}
	return out
}

// tryWriting writes a file and removes it. File systems keep quotas in different ways, and all report them at a write.
func tryWriting(dir string) error {
	f, err := os.CreateTemp(dir, "room-*")
	if err != nil {
		return err
	}
	defer os.Remove(f.Name())
	_, err = f.Write(make([]byte, minWrite))
	return cmp.Or(err, f.Sync(), f.Close())
}

// minWrite is more than a file system can store inside a file's inode.
const minWrite = 64 << 10
