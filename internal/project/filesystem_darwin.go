package project

import "golang.org/x/sys/unix"

// fileSystems are the names of file systems in lacking by those of macOS (mount(8)).
var fileSystems = map[string]string{
	"msdos": "vfat",
	"exfat": "exfat",
	"ntfs":  "ntfs",
	"nfs":   "nfs",
	"smbfs": "smb",
}

// fileSystem returns the file system that a folder is on, or nil if it lacks nothing.
func fileSystem(dir string) *FileSystem {
	var s unix.Statfs_t
	if err := unix.Statfs(dir, &s); err != nil {
		return nil
	}
	return named(fileSystems[unix.ByteSliceToString(s.Fstypename[:])])
}
