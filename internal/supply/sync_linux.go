package supply

import (
	"os"

	"golang.org/x/sys/unix"
)

// Sync writes what is in a folder to the disk: the whole file system at once (syncfs(2)), as a tree has thousands
// of files.
func Sync(dir string) error {
	f, err := os.Open(dir)
	if err != nil {
		return err
	}
	defer f.Close()
	return unix.Syncfs(int(f.Fd()))
}
