package kind

import (
	"time"
)

// Session is one client's connection to a store, as the store lists it.
type Session struct {
	Port int           // the client's port, on 127.0.0.1; 0 if it came over the socket
	Idle time.Duration // since its last request; 0 if a request is running
}
