package keeper

import (
	"net"
	"strconv"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravit/internal/home"
	"dravit/internal/kind"
	"dravit/internal/run"
)

// The keeper listens in the place of a store that comes back, and lets the port go for its next process.
func TestHeldPorts(t *testing.T) {
	h := newHarbour(t)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	_, port, err := net.SplitHostPort(l.Addr().String())
	require.NoError(t, err)
	require.NoError(t, l.Close())
	db := h.spec([2]string{"db", up}).Parts[0]
	db.Port, err = strconv.Atoi(port)
	require.NoError(t, err)
	free := func() bool {
		l, err := net.Listen("tcp", kind.Loopback(db.Port))
		if err == nil {
			l.Close()
		}
		return err == nil
	}
	for _, other := range []func(p *kind.Part){
		func(p *kind.Part) { p.Port = 0 },
		func(p *kind.Part) { p.Way = kind.WayOutside },
		func(p *kind.Part) { p.Way = kind.WayFiles },
		func(p *kind.Part) { p.Role = kind.RoleApp }, // the gateway waits while nothing accepts there
	} {
		p := db
		other(&p)
		h.s.holdPort(p)
		assert.True(t, free())
	}
	h.s.holdPort(db)
	h.s.holdPort(db)
	assert.False(t, free())
	keeps := &partRunner{stack: h.s, spec: db, runs: run.Seen(db)}
	assert.Empty(t, keeps.portHolder(), "the keeper is no other program")
	assert.FileExists(t, HeldFile(h.home, "abc", "db"))
	assert.False(t, HoldsPort(h.home, "abc", "db"), "without a keeper, the note says nothing")
	lock, err := home.TryLock(h.home.Path(home.KeeperLock))
	require.NoError(t, err)
	assert.True(t, HoldsPort(h.home, "abc", "db"))
	require.NoError(t, lock.Close())
	conn, err := net.Dial("tcp", kind.Loopback(db.Port))
	require.NoError(t, err)
	_, err = conn.Read(make([]byte, 1))
	assert.Error(t, err, "nobody answers there")
	conn.Close()
	h.s.freePort("db")
	assert.True(t, free())
	assert.NoFileExists(t, HeldFile(h.home, "abc", "db"))
	h.s.freePort("db")
}

// A copy of the listening socket that a process has for a moment is waited for.
func TestFreePortWaitsForCopies(t *testing.T) {
	h := newHarbour(t)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	port := l.Addr().(*net.TCPAddr).Port
	assert.True(t, listens(port))
	require.NoError(t, l.Close())
	assert.False(t, listens(port))
	db := h.spec([2]string{"db", up}).Parts[0]
	db.Port = port
	h.s.holdPort(db)
	copied, err := h.s.held.all["db"].(*net.TCPListener).File()
	require.NoError(t, err)
	freed := make(chan struct{})
	go func() {
		defer close(freed)
		h.s.freePort("db")
		assert.False(t, listens(port), "the next process can listen")
	}()
	for h.s.holds("db") { // it is closed, and the copy listens still
		time.Sleep(time.Millisecond)
	}
	require.NoError(t, copied.Close())
	<-freed
}
