package self

// running returns the running program's file. This link works even if the file was deleted, or is below a folder that
// this account may not enter.
func running() (string, error) { return "/proc/self/exe", nil }
