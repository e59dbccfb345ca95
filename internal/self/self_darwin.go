package self

import "os"

// running returns the running program's file.
func running() (string, error) { return os.Executable() }
