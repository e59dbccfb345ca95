package self

import "os"

// running is the running program's file.
func running() (string, error) { return os.Executable() }
