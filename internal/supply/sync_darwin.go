package supply

import "dravit/internal/data"

// syncTree writes what is in a folder to the disk.
func syncTree(dir string) error { return data.Sync(dir) }
