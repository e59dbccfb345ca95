// Package data keeps the data folders of parts: their first filling, from a template where one was filled before, and
// what wrote them.
package data

import (
	"bytes"
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"runtime"

	"dravit/internal/home"
	"dravit/internal/kind"
)

// Meta is written beside a data folder.
type Meta struct {
	Kind    string `json:"kind"`
	Version string `json:"version"` // of the program that wrote it last
}

func metaFile(p kind.Part) string { return p.Data + ".json" }

// Read returns what is known of a part's data folder, the zero Meta where there is none yet.
func Read(dataDir string) (Meta, error) {
	var m Meta
	if _, err := os.Stat(dataDir); err != nil {
		return m, nil // not filled, whatever the file beside it says
	}
	return m, home.ReadJSON(dataDir+".json", &m)
}

// Ensure makes the part's data folder where it is missing: complete or not at all. A kind without a template gets an
// empty one. filled tells that it is new, and not on the disk yet: its Sync is left to the caller, who need not wait
// for it.
func Ensure(ctx context.Context, h *home.Home, p kind.Part, k kind.Kind) (filled bool, err error) {
	if was, err := Read(p.Data); err != nil || was.Kind != "" {
		if err == nil && p.UpgradeFrom != "" && was.Version == p.UpgradeFrom {
			err = putAside(ctx, p)
		}
		if err == nil && was.Version != p.Version {
			err = home.WriteJSON(metaFile(p), Meta{Kind: p.Kind, Version: p.Version})
		}
		return false, err
	}
	fresh := p.Data + ".new"
	if err := os.RemoveAll(fresh); err != nil { // of a filling that was interrupted
		return false, err
	}
	err = os.MkdirAll(fresh, 0o700)
	if store, ok := k.(kind.Store); ok && err == nil && store.Template(p) != "" {
		err = fill(ctx, h, p, store, fresh)
	}
	if err == nil {
		err = home.WriteJSON(metaFile(p), Meta{Kind: p.Kind, Version: p.Version})
	}
	if err == nil {
		err = os.Rename(fresh, p.Data)
	}
	if err != nil {
		return false, errors.Join(err, os.RemoveAll(fresh))
	}
	return true, nil
}

// Aside is where the copy of a data folder lies that a version wrote, before a newer one changed it.
func Aside(dataDir, version string) string { return dataDir + ".of-" + version }

// putAside copies a data folder before a newer program changes it, whole or not at all. A copy that is there already is
// of an earlier try, made before anything was changed, and stays.
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
		err = copyTree(ctx, p.Data, fresh)
	}
	if err == nil {
		err = Sync(fresh)
	}
	if err == nil {
		err = os.Rename(fresh, aside)
	}
	if err != nil {
		return fmt.Errorf("copying the data before they are changed: %w", errors.Join(err, os.RemoveAll(fresh)))
	}
	return nil
}

// fill copies the template for the part into dir, after making it where it is missing.
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
	return copyTree(ctx, template, dir)
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

func copyTree(ctx context.Context, from, to string) error {
	return filepath.WalkDir(from, func(path string, e fs.DirEntry, err error) error {
		if err == nil {
			err = ctx.Err()
		}
		if err != nil {
			return err
		}
		rel, err := filepath.Rel(from, path)
		if err != nil {
			return err
		}
		info, err := e.Info()
		if err != nil {
			return err
		}
		target := filepath.Join(to, rel)
		switch {
		case e.IsDir():
			return os.MkdirAll(target, info.Mode().Perm())
		case info.Mode().IsRegular():
			return copyFile(path, target, info.Mode().Perm())
		}
		return nil // sockets and the like have no place in a template
	})
}

// copyFile copies a file and leaves out what is zero: of a database's new files most is, and a hole reads the same.
func copyFile(from, to string, mode fs.FileMode) error {
	in, err := os.Open(from)
	if err != nil {
		return err
	}
	defer in.Close()
	out, err := os.OpenFile(to, os.O_CREATE|os.O_WRONLY|os.O_EXCL, mode)
	if err != nil {
		return err
	}
	return errors.Join(copySparse(out, in), out.Close())
}

const block = 64 << 10

var zeros [block]byte

func copySparse(out *os.File, in io.Reader) error {
	buf := make([]byte, block)
	for at := int64(0); ; {
		n, err := io.ReadFull(in, buf)
		if n > 0 && !bytes.Equal(buf[:n], zeros[:n]) {
			if _, err := out.WriteAt(buf[:n], at); err != nil {
				return err
			}
		}
		at += int64(n)
		if err == io.EOF || err == io.ErrUnexpectedEOF {
			return out.Truncate(at)
		}
		if err != nil {
			return err
		}
	}
}

// Sync brings the content of a folder to the disk.
func Sync(dir string) error {
	return filepath.WalkDir(dir, func(path string, e fs.DirEntry, err error) error {
		if err != nil {
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
