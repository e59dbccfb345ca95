package project

import "golang.org/x/sys/unix"

// fileSystems are the names of file systems in lacking by their magic numbers (statfs(2), linux/magic.h).
var fileSystems = map[uint32]string{
	0x4d44:     "vfat",
	0x2011bab0: "exfat",
	0x5346544e: "ntfs",
	0x7366746e: "ntfs",
	0x01021997: "9p",
	0x517b:     "smb",
	0xff534d42: "smb",
	0xfe534d42: "smb",
	0x786f4256: "vboxsf",
	0x6969:     "nfs",
}

// fileSystem returns the file system that a folder is on, or nil if it lacks nothing.
func fileSystem(dir string) *FileSystem {
	var s unix.Statfs_t
	if err := unix.Statfs(dir, &s); err != nil {
		return nil
	}
	return named(fileSystems[uint32(s.Type)])
}
