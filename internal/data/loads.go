package data

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"

	"dravit/internal/dump"
	"dravit/internal/home"
	"dravit/internal/kind"
	"dravit/internal/trouble"
)

// A load that dies leaves a note, and what the note says is put right as soon as the server answers: by the keeper, or
// by the next command that changes the data. It concerns the one database of the load.

// loading is the note of a load that is under way.
type loading struct {
	Database string `json:"database"`
	// TakeBack is whether the load fills the database itself. What that was before is then in the file before.
	TakeBack bool `json:"take_back"`
}

func loadingFile(dataDir string) string { return dataDir + ".loading.json" }

// before names the dump of a database as it was before a load.
func before(dataDir string) string { return dataDir + ".before.sql.zst" }

// BeginLoad notes that a load of a database is under way. The caller has the change lock, and calls EndLoad.
func BeginLoad(dataDir, database string) error {
	return home.WriteJSON(loadingFile(dataDir), loading{Database: database})
}

// EndLoad notes that the load has ended, and that nothing of it has to be put right.
func EndLoad(dataDir string) error {
	return errors.Join(home.RemoveJSON(loadingFile(dataDir)), os.RemoveAll(before(dataDir)))
}

// Torn reports whether the note of a load is there: a load is under way, or died.
func Torn(dataDir string) bool {
	_, err := os.Lstat(loadingFile(dataDir))
	return err == nil
}

// LoadDied reports whether a load died, and what it left has to be put right.
func LoadDied(dataDir string) bool { return Torn(dataDir) && !home.Locked(changeLock(dataDir)) }

// LoadOver has load fill a database itself, which is empty then. What was in it is dumped first. If load fails, or this
// process dies, the database gets that back, and nothing else of the server changes. The caller has the change lock.
func LoadOver(ctx context.Context, p kind.Part, store kind.Database, load func(kind.Part) error) error {
	err := dump.Write(before(p.Data), func(to io.Writer) error { return store.Dump(ctx, p, to) })
	if errors.Is(err, trouble.NoProgram) { // an empty database needs no client to be kept
		if tables, tablesErr := store.Tables(ctx, p, false); tablesErr == nil && len(tables) == 0 {
			err = dump.Write(before(p.Data), func(to io.Writer) error {
				_, err := io.WriteString(to, "-- nothing was in the database\n")
				return err
			})
		}
	}
	if err != nil {
		return fmt.Errorf("keeping what was in the database: %w", err)
	}
	// A crash up to here leaves the database as it was; from the next line on, its content is in the file.
	if err := home.WriteJSON(loadingFile(p.Data), loading{Database: p.Database, TakeBack: true}); err != nil {
		return err
	}
	err = Empty(ctx, store, p)
	if err == nil {
		err = load(p)
	}
	if err == nil {
		return nil
	}
	if backErr := takeBack(context.WithoutCancel(ctx), p, store); backErr != nil {
		return fmt.Errorf("%w; and the database could not be put back: %w: its dump is %s", err, backErr,
			before(p.Data))
	}
	return err
}

// Empty deletes a database and creates it again.
func Empty(ctx context.Context, store kind.Database, p kind.Part) error {
	if err := store.Drop(ctx, p); err != nil {
		return err
	}
	return store.Create(ctx, p)
}

// takeBack fills a database with what the file before holds. It may be called again if it died.
func takeBack(ctx context.Context, p kind.Part, store kind.Database) error {
	file, err := os.Open(before(p.Data))
	if err != nil {
		return err
	}
	from, err := dump.New(ctx, file)
	if err != nil {
		return err
	}
	defer from.Close()
	if err := Empty(ctx, store, p); err != nil {
		return err
	}
	_, err = store.Load(ctx, p, from)
	return err
}

// PutRight puts right what a load left that died. The caller has the change lock, and the server answers.
func PutRight(ctx context.Context, p kind.Part, store kind.Database) error {
	if !Torn(p.Data) {
		return nil
	}
	var l loading
	if err := home.ReadJSON(loadingFile(p.Data), &l); err != nil {
		return err
	}
	if err := store.Tidy(ctx, p); err != nil {
		return err
	}
	if l.TakeBack {
		p.Database = l.Database
		if err := takeBack(ctx, p, store); err != nil {
			return fmt.Errorf("taking back a load that died: %w: the dump of the database before is %s", err,
				before(p.Data))
		}
	}
	return EndLoad(p.Data)
}

// PutRightAlone is PutRight without a lock: if a command has it, that one puts things right.
func PutRightAlone(ctx context.Context, p kind.Part, store kind.Database) error {
	done, err := Change(p.Data)
	if errors.Is(err, ErrBusy) {
		return nil
	}
	if err != nil {
		return err
	}
	defer done()
	return PutRight(ctx, p, store)
}
