// Package data manages the data folders of parts: it fills a new folder, from a template if one was filled before, and
// remembers which program wrote it.
package data

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"runtime"
	"time"

	"dravit/internal/home"
	"dravit/internal/kind"
)

// Meta describes a data folder. It is a file beside the folder.
type Meta struct {
	Kind    string `json:"kind"`
	Version string `json:"version"` // version of the program that wrote it last, and answered (see Answered)
	// Trying is the version of a newer program that was started on the data and has not answered yet, or "".
	Trying string `json:"trying,omitempty"`
	ID     string `json:"id,omitempty"` // a random text that every new data folder gets
}

func metaFile(p kind.Part) string { return p.Data + ".json" }

// Read returns the description of a part's data folder, or the zero Meta if there is none yet.
func Read(dataDir string) (Meta, error) {
	var m Meta
	if _, err := os.Stat(dataDir); err != nil {
		return m, nil // not filled yet, even if the file beside it says otherwise
	}
	return m, home.ReadJSON(dataDir+".json", &m)
}

// Ensure creates the part's data folder if it is missing: whole, or not at all. A kind without a template gets an empty
// folder. If filled, the folder is new and not synced: the caller must call Sync, if only in the background.
func Ensure(ctx context.Context, h *home.Home, p kind.Part, k kind.Kind) (filled bool, err error) {
	done, err := Hold(ctx, p.Data)
	if err != nil {
		return false, err
	}
	defer done()
	if err := errors.Join(FinishRewind(ctx, p, k), Mend(p.Data)); err != nil {
		return false, err
	}
	if was, err := Read(p.Data); err != nil || was.Kind != "" {
		// A second try must not mark what the first one may have changed.
		if err == nil && p.UpgradeFrom != "" && was.Version == p.UpgradeFrom && was.Trying != p.Version {
			err = upgrade(ctx, p, k)
		}
		return false, err
	}
	fresh := p.Data + ".new"
	if err := os.RemoveAll(fresh); err != nil { // left by a filling that was interrupted
		return false, err
	}
	err = os.MkdirAll(fresh, 0o700)
	if store, ok := k.(kind.Store); ok && err == nil && store.Template(p) != "" {
		err = fill(ctx, h, p, store, fresh)
	}
	if err == nil {
		err = home.WriteJSON(metaFile(p), Meta{Kind: p.Kind, Version: p.Version, ID: rand.Text()})
	}
	if err == nil {
		err = os.Rename(fresh, p.Data)
	}
	if err != nil {
		return false, errors.Join(err, os.RemoveAll(fresh))
	}
	return true, nil
}

// Answered notes that a program of that version has the data, as it answers. Until then the note says who wrote them
// before, so that a newer program that never answers does not keep the older one out.
func Answered(dataDir, version string) error {
	m, err := Read(dataDir)
	if err != nil || m.Kind == "" || m.Version == version && m.Trying == "" {
		return err
	}
	m.Version, m.Trying = version, ""
	return home.WriteJSON(dataDir+".json", m)
}

// BeforeUpgrade returns the name of the mark of the data as that version wrote them.
func BeforeUpgrade(version string) string { return "before-upgrade-from-" + version }

// upgrade marks the data before a newer program changes them, and has a kind that cannot read them take them over. The
// caller has the hold lock.
func upgrade(ctx context.Context, p kind.Part, k kind.Kind) error {
	m := Mark{Name: BeforeUpgrade(p.UpgradeFrom), At: time.Now(), Before: "upgrade"}
	err := Room(filepath.Dir(p.Data), p.Data)
	if err == nil {
		err = SaveMark(ctx, p.Data, m, nil)
	}
	if err == nil {
		err = SyncMark(p.Data, m.Name)
	}
	if err != nil {
		return fmt.Errorf("marking the data before the upgrade: %w", err)
	}
	meta, err := Read(p.Data)
	if err != nil {
		return err
	}
	store, ok := k.(kind.Store)
	if !ok || k.Needs(p.Want).Older != kind.ReloadsOlder {
		meta.Trying = p.Version
		return home.WriteJSON(metaFile(p), meta)
	}
	next := Prepared(p.Data)
	if err := os.RemoveAll(next); err != nil {
		return err
	}
	defer DropPrepared(p.Data)
	if err = os.Mkdir(next, 0o700); err == nil {
		err = store.Upgrade(ctx, p, next)
	}
	if err == nil {
		err = Sync(next)
	}
	if err != nil {
		return fmt.Errorf("taking over the data of %s %s: %w", p.Kind, p.UpgradeFrom, err)
	}
	return errors.Join(Swap(p.Data, Mark{Kind: p.Kind, Version: p.Version, ID: meta.ID}), DropWas(p.Data))
}

// fill copies the template of the part into dir. It creates the template first if it is missing.
func fill(ctx context.Context, h *home.Home, p kind.Part, store kind.Store, dir string) error {
	sum := sha256.Sum256([]byte(store.Template(p)))
	name := fmt.Sprintf("%s-%s-%s-%x", p.Kind, p.Version, runtime.GOARCH, sum[:6])
	template := h.Path("templates", name)
	if _, err := os.Stat(template); err != nil {
		lock, err := home.Lock(ctx, template+".lock", "another start, which prepares the same server's first data")
		if err != nil {
			return err
		}
		defer lock.Close()
		if _, err := os.Stat(template); err != nil {
			if err := makeTemplate(ctx, p, store, template); err != nil {
				return err
			}
		}
	}
	return Copy(ctx, template, dir)
}

func makeTemplate(ctx context.Context, p kind.Part, store kind.Store, template string) error {
	fresh := template + ".new"
	if err := os.RemoveAll(fresh); err != nil {
		return err
	}
	err := os.MkdirAll(fresh, 0o700)
	if err == nil {
		err = store.Fill(ctx, p, fresh)
	}
	if err == nil {
		err = Sync(fresh)
	}
	if err == nil {
		err = os.Rename(fresh, template)
	}
	if err != nil {
		return errors.Join(err, os.RemoveAll(fresh))
	}
	return nil
}

// Sync writes the content of a folder to the disk (fsync).
func Sync(dir string) error {
	return filepath.WalkDir(dir, func(path string, e fs.DirEntry, err error) error {
		if err != nil || !e.IsDir() && !e.Type().IsRegular() {
			return err
		}
		f, err := os.Open(path)
		if err != nil {
			return err
		}
		defer f.Close()
		return f.Sync()
	})
}
