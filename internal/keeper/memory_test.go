package keeper

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"dravit/internal/kind"
	"dravit/internal/run"
)

// inMemory is a way to run a part that only this test knows: a boat sails in the memory of the test. A keeper runs it
// as it runs any other.
const inMemory kind.Way = "memory"

func init() { run.Register(inMemory, &fleet{}) }

// eachWay runs a test with parts that are processes, and with parts in memory.
func eachWay(t *testing.T, test func(t *testing.T, h *harbour)) {
	t.Helper()
	for _, way := range []kind.Way{kind.WayProcess, inMemory} {
		t.Run(string(way), func(t *testing.T) {
			h := newHarbour(t)
			h.way = way
			test(t, h)
		})
	}
}

// fleet is the way: the boats that sail, by their locks.
type fleet struct {
	mu    sync.Mutex
	boats map[string]*sailing
	built int
}

func (*fleet) Offers() run.Offers         { return run.Offers{Process: true, Data: true, Log: true} }
func (*fleet) View(p kind.Part) kind.Part { return p }
func (f *fleet) Seen(p kind.Part, _ run.Note) run.Handle {
	f.mu.Lock()
	defer f.mu.Unlock()
	if boat := f.boats[p.Lock]; boat != nil {
		return boat
	}
	sunk := &sailing{gone: make(chan struct{})}
	close(sunk.gone)
	return sunk
}

func (f *fleet) Adopt(p kind.Part, note run.Note) run.Handle {
	f.mu.Lock()
	defer f.mu.Unlock()
	if boat := f.boats[p.Lock]; boat != nil && boat.Alive() && note.Own == fmt.Sprint(boat.number) {
		return adopted{boat}
	}
	return nil
}

func (f *fleet) Start(_ context.Context, p kind.Part, _ kind.Command, begins func()) (run.Handle, error) {
	begins()
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.boats == nil {
		f.boats = map[string]*sailing{}
	}
	f.built++
	boat := &sailing{number: 1<<30 + f.built, signals: make(chan syscall.Signal, 10), gone: make(chan struct{})}
	f.boats[p.Lock] = boat
	go boat.sail(p)
	return boat, nil
}

// of returns the boat with a number.
func (f *fleet) of(number int) *sailing {
	f.mu.Lock()
	defer f.mu.Unlock()
	for _, boat := range f.boats {
		if boat.number == number {
			return boat
		}
	}
	return nil
}

// sailing is a boat that sails.
type sailing struct {
	number  int
	signals chan syscall.Signal
	gone    chan struct{} // closed when it has ended
	end     run.End       // how, once it has
}

// sail does what the words of the part's command say.
func (s *sailing) sail(p kind.Part) {
	defer close(s.gone)
	for word := range strings.SplitSeq(p.Want.Command, "; ") {
		switch {
		case strings.HasPrefix(word, "echo "):
			_ = os.WriteFile(p.Log, []byte(word[len("echo "):]+"\n"), 0o600)
		case strings.HasPrefix(word, "exit "):
			_, _ = fmt.Sscanf(word, "exit %d", &s.end.Code)
			return
		case word == "UP":
			_ = os.WriteFile(filepath.Join(p.Temp, "up"), nil, 0o600)
		}
		for strings.Contains(word, "$TEMP/go") && !exists(filepath.Join(p.Temp, "go")) && len(s.signals) == 0 {
			time.Sleep(tick)
		}
	}
	for signal := range s.signals {
		switch signal {
		case syscall.SIGUSR1:
			_ = os.WriteFile(filepath.Join(p.Temp, "log"), []byte("reloaded\n"), 0o600)
		case syscall.SIGKILL:
			s.end.Signal = signal
			return
		default:
			return
		}
	}
}

func (s *sailing) Watch(_ context.Context, died func()) <-chan run.End {
	ended := make(chan run.End, 1)
	go func() {
		<-s.gone
		died()
		ended <- s.end
	}()
	return ended
}

// adopted is a boat that another keeper has put to sea: how it ends, that one would learn.
type adopted struct{ *sailing }

func (a adopted) Watch(ctx context.Context, died func()) <-chan run.End {
	ended := make(chan run.End, 1)
	go func() {
		<-a.sailing.Watch(ctx, died)
		ended <- run.End{Unseen: true}
	}()
	return ended
}

func (s *sailing) PID() int { return s.number }

func (s *sailing) Alive() bool {
	select {
	case <-s.gone:
		return false
	default:
		return true
	}
}

func (*sailing) Includes(int) bool              { return false }
func (*sailing) Owns(_, _ string) (bool, error) { return true, nil }
func (*sailing) Listens() ([]string, error)     { return nil, nil }
func (*sailing) Look() (int64, bool)            { return 0, false }

func (s *sailing) Signal(signal syscall.Signal) error {
	if !s.Alive() {
		return os.ErrProcessDone
	}
	s.signals <- signal
	return nil
}

func (s *sailing) End(context.Context) error {
	if s.Signal(syscall.SIGKILL) == nil {
		<-s.gone
	}
	return nil
}

func (s *sailing) Stop(ctx context.Context, stop run.Stop) error {
	if s.Signal(stop.Signal) == nil {
		<-s.gone
	}
	return s.End(ctx)
}

func (s *sailing) Note() run.Note { return run.Note{Own: fmt.Sprint(s.number)} }
