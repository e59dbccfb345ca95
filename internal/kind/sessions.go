package kind

import (
	"context"
	"time"
)

// Session is one client's connection to a store, as the store lists it.
type Session struct {
	Port int           // the client's port, on 127.0.0.1; 0 if it came over the socket
	Idle time.Duration // since it last asked for something; 0 if it is asking now
}

// SessionLister is a store with a limit of connections, which its administrator may ask for even when it is reached.
type SessionLister interface {
	// Sessions returns the connections of the application's users, the limit, and the setting that raises it.
	Sessions(ctx context.Context, p Part) (sessions []Session, limit int, setting string, err error)
}
