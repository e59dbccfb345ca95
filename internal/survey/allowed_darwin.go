package survey

import (
	"context"
	"os"
)

// lowestPort: macOS keeps the ports below 1024 of single addresses for root.
func lowestPort() int {
	if os.Geteuid() == 0 {
		return 1
	}
	return 1024
}

// userNamespaces: macOS has none.
func userNamespaces(context.Context) bool { return false }

// LowPorts: macOS has no command for that.
func LowPorts() string { return "" }
