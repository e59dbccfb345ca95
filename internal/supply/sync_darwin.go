package supply

import "dravit/internal/data"

// Sync writes what is in a folder to the disk.
func Sync(dir string) error { return data.Sync(dir) }
