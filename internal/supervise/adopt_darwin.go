package supervise

// adoptOrphans does nothing: macOS gives orphans to process 1. They are found by their other marks.
func adoptOrphans() error { return nil }
