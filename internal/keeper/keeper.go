// Package keeper is the one background process of a user: it starts, watches, restarts and stops parts and the gateway.
// It may die at any moment: the parts keep running, and the next keeper takes them over.
package keeper

import (
	"context"
	"errors"
	"log/slog"
	"maps"
	"net/http"
	"os"
	"slices"
	"sync"
	"time"

	"dravit/internal/home"
	"dravit/internal/kind"
	"dravit/internal/ledger"
	"dravit/internal/logfile"
	"dravit/internal/members"
	"dravit/internal/proc"
	"dravit/internal/webrules"
)

// Keeper is the background process.
//
// Locks are taken in this order, and none while a later one is held: apply of a stack, mu of the gatewayRunner, apply
// of the gateway's own stackRunner, the ledger's lock file, mu of the Keeper, mu of a stackRunner.
type Keeper struct {
	clock logfile.Clock // the times of the logs
	home  *home.Home
	kinds kind.List
	self  string
	build string
	log   *slog.Logger
	quit  context.CancelFunc
	parts sync.WaitGroup // goroutines of parts

	gateway *gatewayRunner

	mu       sync.Mutex // guards what follows
	stacks   map[string]*stackRunner
	leaving  bool // the parts keep running: another keeper takes over
	requests int  // requests under way that may start something
}

// socketName is the keeper's own socket in the run folder.
const socketName = "keeper.sock"

// ErrRunning says that another keeper serves this home folder.
var ErrRunning = errors.New("another keeper is running")

// Run runs the keeper. It returns when no stack should run, when another keeper asks to take over, or when the context
// ends. self is the dravit program that runs built-in parts, build the hash of that program.
func Run(ctx context.Context, h *home.Home, kinds kind.List, self, build string) error {
	lock, err := home.TryLock(h.Path(home.KeeperLock))
	if errors.Is(err, home.ErrLocked) {
		return ErrRunning
	}
	if err != nil {
		return err
	}
	defer lock.Close()
	if err := noteKeeper(lock); err != nil {
		return err
	}
	raiseFileLimit()
	if run, err := os.Open(h.Run); err == nil { // cleaners of /tmp spare a folder that a process has locked
		defer run.Close()
		_ = home.Share(run)
	}
	ctx, quit := context.WithCancel(ctx)
	defer quit()
	k := &Keeper{home: h, kinds: kinds, self: self, build: build, quit: quit, stacks: map[string]*stackRunner{},
		log: slog.New(slog.NewTextHandler(os.Stderr, nil))}
	k.gateway = newGatewayRunner(k)
	if err := k.takeOver(); err != nil {
		return err
	}
	listener, err := k.listen()
	if err != nil {
		return err
	}
	k.log.Info("keeper runs", "pid", os.Getpid(), "build", build)
	defer time.AfterFunc(lonely, k.endIfIdle).Stop() // the caller may have found that there is nothing to start
	server := &http.Server{
		Handler:           k.handler(),
		ReadHeaderTimeout: time.Minute,
		ErrorLog:          slog.NewLogLogger(k.log.Handler(), slog.LevelWarn),
	}
	var guarding sync.WaitGroup
	guarding.Go(func() { k.guard(ctx, lock, server) })
	err = webrules.ServeHTTP(ctx, server, home.OwnPeers(listener))
	guarding.Wait()
	k.mu.Lock()
	k.leaving = true
	stacks := append(slices.Collect(maps.Values(k.stacks)), k.gateway.runner)
	k.mu.Unlock()
	for _, s := range stacks {
		s.leave()
	}
	k.parts.Wait()
	k.log.Info("keeper ends")
	return err
}

// noteKeeper writes this process's identity into the keeper's lock file.
func noteKeeper(lock *os.File) error {
	me, err := proc.Identify(os.Getpid())
	if err != nil {
		return err
	}
	return members.NoteLeader(lock, me)
}

// takeOver takes over the parts that an earlier keeper left running.
func (k *Keeper) takeOver() error {
	book, err := ledger.Read(k.home)
	if err != nil {
		return err
	}
	for id := range book.Stacks {
		if !ShouldRun(k.home, id) {
			continue
		}
		s := newStack(k, id)
		if err := s.adopt(); err != nil {
			k.log.Error("taking over", "stack", id, "error", err)
			continue
		}
		k.stacks[id] = s
	}
	if len(k.stacks) == 0 {
		return nil
	}
	return k.gateway.runner.adopt()
}

func (k *Keeper) stack(id string) *stackRunner {
	k.mu.Lock()
	defer k.mu.Unlock()
	s, ok := k.stacks[id]
	if !ok {
		s = newStack(k, id)
		k.stacks[id] = s
	}
	return s
}

// everyStack returns the stacks that this keeper knows, without the gateway.
func (k *Keeper) everyStack() []*stackRunner {
	k.mu.Lock()
	defer k.mu.Unlock()
	return slices.Collect(maps.Values(k.stacks))
}

// lonely is how long a keeper without stacks waits for its first one.
const lonely = 20 * time.Second

// endIfIdle ends the keeper if nothing runs and no request may start anything.
func (k *Keeper) endIfIdle() {
	k.mu.Lock()
	defer k.mu.Unlock()
	idle := k.requests == 0
	for _, s := range k.stacks {
		s.mu.Lock()
		idle = idle && len(s.parts) == 0
		s.mu.Unlock()
	}
	if idle {
		k.leaving = true
		k.quit()
	}
}
