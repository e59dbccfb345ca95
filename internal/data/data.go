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

	"dravit/internal/home"
	"dravit/internal/kind"
)

// Meta describes a data folder. It is a file beside the folder.
type Meta struct {
	Kind    string `json:"kind"`
	Version string `json:"version"`      // version of the program that wrote it last
	ID      string `json:"id,omitempty"` // a random text that every new data folder gets
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
		if err == nil && p.UpgradeFrom != "" && was.Version == p.UpgradeFrom {
			err = putAside(ctx, p)
		}
		if err == nil && was.Version != p.Version {
			was.Version = p.Version
			err = home.WriteJSON(metaFile(p), was)
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

// Aside returns the path of the copy of a data folder as that version wrote it, made before a newer version changed it.
func Aside(dataDir, version string) string { return dataDir + ".of-" + version }

// putAside copies a data folder, whole or not at all, before a newer program changes it. It keeps a copy that exists
// already: an earlier try made it before anything was changed.
func putAside(ctx context.Context, p kind.Part) error {
	aside := Aside(p.Data, p.UpgradeFrom)
	if _, err := os.Stat(aside); err == nil {
		return nil
	}
	fresh := aside + ".new"
	if err := os.RemoveAll(fresh); err != nil {
		return err
	}
	err := os.MkdirAll(fresh, 0o700)
	if err == nil {
		err = Copy(ctx, p.Data, fresh)
	}
	if err == nil {
		err = Sync(fresh)
	}
	if err == nil {
		err = os.Rename(fresh, aside)
	}
	if err != nil {
		return fmt.Errorf("copying the data before the upgrade: %w", errors.Join(err, os.RemoveAll(fresh)))
	}
	return nil
}

// fill copies the template of the part into dir. It creates the template first if it is missing.
func fill(ctx context.Context, h *home.Home, p kind.Part, store kind.Store, dir string) error {
	sum := sha256.Sum256([]byte(store.Template(p)))
	name := fmt.Sprintf("%s-%s-%s-%x", p.Kind, p.Version, runtime.GOARCH, sum[:6])
	template := h.Path("templates", name)
	if _, err := os.Stat(template); err != nil {
		lock, err := home.Lock(template + ".lock")
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
