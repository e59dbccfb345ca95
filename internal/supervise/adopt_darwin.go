package supervise

// adoptOrphans does nothing: macOS gives orphans to process 1. Their other marks identify them.
func adoptOrphans() error { return nil }
