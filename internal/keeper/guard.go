package keeper

import (
	"cmp"
	"context"
	"errors"
	"io"
	"io/fs"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"time"

	"dravit/internal/data"
	"dravit/internal/home"
	"dravit/internal/ledger"
	"dravit/internal/lifecycle"
	"dravit/internal/logfile"
	"dravit/internal/materialise"
	"dravit/internal/proc"
)

// guardEvery is how often the keeper checks whether its files exist, and whether logs are too long.
const guardEvery = 500 * time.Millisecond

// guard recreates the keeper's files if they were deleted while it runs, stops stacks whose folder was deleted, and
// shortens logs. It ends the keeper if the home folder is gone or another keeper has taken its place.
func (k *Keeper) guard(ctx context.Context, lock *os.File, server *http.Server) {
	held := []*os.File{lock}
	defer func() {
		for _, f := range held[1:] {
			f.Close()
		}
	}()
	freshened, swept := time.Now(), time.Now()
	for proc.Sleep(ctx, guardEvery) == nil {
		if _, err := os.Stat(k.home.Dir); errors.Is(err, fs.ErrNotExist) {
			k.log.Error("the home folder was deleted: everything is stopped", "folder", k.home.Dir)
			k.stopAll(ctx)
			k.quit()
			return
		}
		again, err := k.holdLock(held[len(held)-1])
		switch {
		case errors.Is(err, home.ErrLocked):
			k.log.Error("another keeper has taken the place of this one, whose lock file was deleted")
			k.quit()
			return
		case err != nil:
			k.log.Error("the keeper's lock file was deleted and cannot be created again", "error", err)
		case again != nil:
			held = append(held, again)
		}
		k.holdSocket(ctx, server)
		k.holdStacks(ctx)
		k.takeBack(ctx)
		k.gateway.checkTable()
		k.noteTimes()
		k.shortenLogs()
		if time.Since(swept) > sweepEvery {
			k.sweep()
			swept = time.Now()
		}
		if time.Since(freshened) > freshenEvery {
			freshen(k.home.Run)
			freshened = time.Now()
		}
	}
}

// sweepEvery is how often what was thrown away of data is deleted.
const sweepEvery = 2 * time.Second

// sweep deletes what was thrown away of the data of all parts.
func (k *Keeper) sweep() {
	for _, s := range k.everyStack() {
		s.mu.Lock()
		for _, p := range s.parts {
			if dir := p.spec.Data; dir != "" {
				k.parts.Go(func() { // what is left is deleted the next time
					_ = data.Sweep(dir)
					_ = data.Sweep(data.All(filepath.Dir(dir)))
				})
			}
		}
		s.mu.Unlock()
	}
}

// freshenEvery is less than any cleaner of /tmp waits: they remove what nobody has touched for some days, and a socket
// is touched by nothing.
const freshenEvery = 6 * time.Hour

// freshen makes the files of a folder look just written.
func freshen(folder string) {
	now := time.Now()
	_ = filepath.WalkDir(folder, func(path string, e fs.DirEntry, err error) error {
		if err == nil && e.Type()&fs.ModeSymlink == 0 {
			_ = os.Chtimes(path, now, now) // one that is gone needs it no more
		}
		return nil
	})
}

// holdLock takes the lock again if its file was deleted. It returns nil if the file is still the locked one.
func (k *Keeper) holdLock(lock *os.File) (*os.File, error) {
	path := k.home.Path(home.KeeperLock)
	if sameFile(lock, path) {
		return nil, nil
	}
	again, err := home.TryLock(path)
	if err != nil {
		return nil, err
	}
	k.log.Warn("the keeper's lock file was deleted: it is created again", "file", path)
	return again, noteKeeper(again)
}

func sameFile(f *os.File, path string) bool {
	now, err := os.Stat(path)
	was, wasErr := f.Stat()
	return err == nil && wasErr == nil && os.SameFile(now, was)
}

// holdSocket listens again if the keeper's socket or its folder was deleted.
func (k *Keeper) holdSocket(ctx context.Context, server *http.Server) {
	path := filepath.Join(k.home.Run, socketName)
	if info, err := os.Lstat(path); err == nil && info.Mode()&fs.ModeSocket != 0 {
		return
	}
	listener, err := k.listen()
	if err != nil {
		k.log.Error("the keeper's socket is gone and cannot be created again", "error", err)
		return
	}
	k.log.Warn("the keeper's socket was gone: it is created again", "socket", path)
	go func() {
		if err := server.Serve(home.OwnPeers(listener)); err != nil && ctx.Err() == nil {
			k.log.Error("the keeper's socket", "error", err)
		}
	}()
}

// listen creates the keeper's socket, and its folder if that is gone.
func (k *Keeper) listen() (net.Listener, error) {
	if err := home.HoldRun(k.home.Run); err != nil {
		return nil, err
	}
	path := filepath.Join(k.home.Run, socketName)
	_ = os.Remove(path) // only the process that holds the lock listens on it
	listener, err := net.Listen("unix", path)
	if err != nil {
		return nil, err
	}
	if err := os.Chmod(path, 0o600); err != nil {
		listener.Close()
		return nil, err
	}
	return listener, nil
}

// holdStacks stops stacks whose folder was deleted: what they write would be lost.
func (k *Keeper) holdStacks(ctx context.Context) {
	for _, s := range append(k.everyStack(), k.gateway.runner) {
		s.mu.Lock()
		runs := len(s.parts) > 0
		s.mu.Unlock()
		if _, err := os.Stat(k.home.Stack(s.id)); !runs || !errors.Is(err, fs.ErrNotExist) {
			continue
		}
		k.log.Error("a stack's folder was deleted: stopping its parts", "stack", s.id)
		if _, err := s.stop(ctx, nil); err != nil {
			k.log.Error("cannot stop a stack whose folder was deleted", "stack", s.id, "error", err)
		}
		if s == k.gateway.runner {
			k.gateway.openAgain(ctx)
			continue
		}
		k.clear(ctx, s.id)
		k.gateway.closeIfIdle(ctx)
	}
	k.endIfIdle()
}

// clear deletes what stopping a stack has created again of its folder, unless a start writes it anew just now: that
// holds the ledger's lock, and the spec is there afterwards.
func (k *Keeper) clear(ctx context.Context, id string) {
	err := ledger.Change(ctx, k.home, func(*ledger.Ledger) error {
		if _, err := os.Stat(materialise.File(k.home, id)); !errors.Is(err, fs.ErrNotExist) {
			return ledger.ErrUnchanged
		}
		return cmp.Or(os.RemoveAll(k.home.Stack(id)), ledger.ErrUnchanged)
	})
	if err != nil {
		k.log.Error("cannot delete what is left of a stack's folder", "stack", id, "error", err)
	}
}

// takeBack has the parts looked at of which a load died, which puts right what it left. It starts parts again of which
// a rewind of the whole stack died: their start finishes it.
func (k *Keeper) takeBack(ctx context.Context) {
	for _, s := range k.everyStack() {
		s.mu.Lock()
		var torn []string
		for name, p := range s.parts {
			tried := p.status.State == lifecycle.Failed // its start says why that is impossible
			if p.spec.Data == "" || tried {
				continue
			}
			if data.LoadDied(p.spec.Data) {
				p.askNow()
			}
			if data.Unfinished(p.spec.Data) {
				torn = append(torn, name)
			}
		}
		s.mu.Unlock()
		if len(torn) == 0 {
			continue
		}
		k.log.Warn("a rewind died: it is finished", "stack", s.id, "parts", torn)
		_, _, err := s.begin(ctx, func() (materialise.Spec, error) { return materialise.Read(k.home, s.id, k.kinds) },
			request{Parts: torn, Only: true})
		if err != nil {
			k.log.Error("cannot finish a rewind", "stack", s.id, "error", err)
		}
	}
}

// stopAll stops every stack and the gateway.
func (k *Keeper) stopAll(ctx context.Context) {
	for _, s := range append(k.everyStack(), k.gateway.runner) {
		_, _ = s.stop(ctx, nil) // there is nothing left to write to
	}
}

// noteTimes notes how long the logs are now: so each line has the time at which it was seen first.
func (k *Keeper) noteTimes() {
	for _, file := range logsOf(k.everyStack()) {
		_ = k.clock.Note(file, time.Now()) // without a note a line has no time
	}
}

// shortenLogs shortens logs that have grown too long while a part writes to them.
func (k *Keeper) shortenLogs() {
	for _, file := range logsOf(append(k.everyStack(), k.gateway.runner)) {
		shortenLog(file)
	}
	shortenLog(logFile(k.home))
}

// logsOf returns the logs of the parts that run.
func logsOf(stacks []*stackRunner) (files []string) {
	for _, s := range stacks {
		s.mu.Lock()
		for _, p := range s.parts {
			files = append(files, p.spec.Log)
		}
		s.mu.Unlock()
	}
	return files
}

// shortenLog copies the end of a log that is too long to FILE.1, and empties the log. Its writer appends, so it
// continues at the beginning; what it writes between the two steps is lost.
func shortenLog(file string) {
	if logfile.Size(file) <= maxLog {
		return
	}
	from, err := os.OpenFile(file, os.O_RDWR, 0)
	if err != nil {
		return
	}
	defer from.Close()
	to, err := os.OpenFile(file+".1", os.O_CREATE|os.O_WRONLY|os.O_TRUNC, 0o600)
	if err != nil {
		return
	}
	defer to.Close()
	size := logfile.Size(file)
	_, _ = io.Copy(to, io.NewSectionReader(from, max(0, size-maxLog), maxLog)) // a part of it is better than none
	_ = from.Truncate(0)
}
