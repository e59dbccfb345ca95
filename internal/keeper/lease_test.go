package keeper

import (
	"context"
	"errors"
	"net/http"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravit/internal/lifecycle"
	"dravit/internal/trouble"
)

// back ends the waiting of Client.Rest when a part answers.
func back(part string) func(Event) bool {
	return func(e Event) bool { return e.Part != nil && e.Part.Name == part && e.Part.State == lifecycle.Answers }
}

// Parts are at rest while a command works, and come back when it has done so.
func TestRest(t *testing.T) { eachWay(t, testRest) }

func testRest(t *testing.T, h *harbour) {
	h.begin(h.spec([2]string{"db", up}, [2]string{"web", up}))
	was, web := h.eventually("db", lifecycle.Answers).PID, h.eventually("web", lifecycle.Answers).PID
	c := serve(t, h.home, h.handler().ServeHTTP)
	sunk := errors.New("the mark was not made")
	err := c.Rest(t.Context(), "abc", []string{"db"}, wait, func() error {
		assert.False(t, alive(was))
		time.Sleep(20 * tick) // it would be back by now
		assert.Equal(t, lifecycle.Starting, h.status("db").State)
		assert.Zero(t, h.status("db").PID)
		assert.Equal(t, web, h.status("web").PID, "the others go on")
		return sunk
	}, back("db"))
	require.ErrorIs(t, err, sunk)
	assert.Equal(t, lifecycle.Answers, h.status("db").State)
	assert.NotEqual(t, was, h.status("db").PID)
}

// A command that dies while parts are at rest holds nobody up, and a stop does not wait for one that works.
func TestRestEnds(t *testing.T) {
	h := newHarbour(t)
	h.begin(h.spec([2]string{"db", up}))
	h.eventually("db", lifecycle.Answers)
	c := serve(t, h.home, h.handler().ServeHTTP)
	ctx, die := context.WithCancel(t.Context())
	resting, end := make(chan struct{}, 2), make(chan struct{})
	rest := func(ctx context.Context, ended chan<- error) {
		ended <- c.Rest(ctx, "abc", []string{"db"}, wait, func() error {
			resting <- struct{}{}
			<-end
			return nil
		}, back("db"))
	}
	dead, stopped := make(chan error, 1), make(chan error, 1)
	go rest(ctx, dead)
	<-resting
	die()
	h.eventually("db", lifecycle.Answers)
	go rest(t.Context(), stopped)
	<-resting
	_, err := h.s.stop(t.Context(), []string{"db"})
	require.NoError(t, err)
	close(end)
	assert.ErrorIs(t, <-dead, context.Canceled)
	require.NoError(t, <-stopped)
	assert.Equal(t, lifecycle.Stopped, h.s.stateOf("db"), "it was stopped meanwhile")
}

// A part is at rest until the last lease on it has ended.
func TestLeases(t *testing.T) {
	s := newHarbour(t).s
	first, second, other := s.lease([]string{"db"}), s.lease([]string{"web", "db"}), s.lease([]string{"app"})
	free := make(chan struct{})
	go func() { s.atRest(t.Context(), "db"); close(free) }()
	first()
	first()
	select {
	case <-free:
		t.Fatal("the second has not ended")
	case <-time.After(10 * tick):
	}
	second()
	<-free
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	s.atRest(ctx, "app") // returns
	other()
}

// A keeper that knows no rest would start the parts while the command works. So the command begins nothing.
func TestRestOfAnOlderKeeper(t *testing.T) {
	c := serve(t, newHome(t), func(w http.ResponseWriter, _ *http.Request) { _, _ = w.Write([]byte(`{"done":true}`)) })
	begin := func() error { t.Error("it began"); return nil }
	err := c.Rest(t.Context(), "abc", []string{"db"}, wait, begin, back("db"))
	assert.ErrorIs(t, err, trouble.KeeperGone)
}
