package stack

import (
	"context"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"dravit/internal/certificates"
	"dravit/internal/data"
	"dravit/internal/ledger"
	"dravit/internal/trouble"
)

// PartData is the data that Dravit keeps of one part.
type PartData struct {
	Part    string `json:"part"`
	Kind    string `json:"kind"`    // that wrote it
	Version string `json:"version"` // that wrote it last
	Bytes   int64  `json:"bytes"`   // with its marks
}

// Kept is what Dravit keeps of a stack.
type Kept struct {
	Ports []int      // chosen for its parts and sites
	Names []string   // host names
	Data  []PartData // by part
	Bytes int64      // of everything
}

// Kept returns what Dravit keeps of the stack.
func (s *Stack) Kept() (Kept, error) {
	var k Kept
	book, err := ledger.Read(s.Home)
	if err != nil || s.ID == "" {
		return k, err
	}
	entry := book.Stacks[s.ID]
	for _, port := range entry.Ports {
		k.Ports = append(k.Ports, port)
	}
	for _, name := range entry.Hosts {
		k.Names = append(k.Names, name)
	}
	slices.Sort(k.Ports)
	slices.Sort(k.Names)
	k.Bytes = sizeOf(s.Home.Stack(s.ID))
	entries, err := os.ReadDir(s.Home.Stack(s.ID, "data"))
	if errors.Is(err, fs.ErrNotExist) {
		return k, nil
	}
	for _, e := range entries {
		if !e.IsDir() || strings.Contains(e.Name(), ".") {
			continue
		}
		meta, err := data.Read(s.Home.Stack(s.ID, "data", e.Name()))
		if err != nil {
			meta = data.Meta{} // it can be removed even if the program that wrote it is unknown
		}
		p := PartData{Part: e.Name(), Kind: meta.Kind, Version: meta.Version}
		for _, folder := range s.dataFolders(e.Name()) {
			p.Bytes += sizeOf(folder)
		}
		k.Data = append(k.Data, p)
	}
	return k, err
}

// dataFolders returns a part's data folder, and what is kept beside it.
func (s *Stack) dataFolders(part string) []string {
	dir := s.Home.Stack(s.ID, "data")
	entries, _ := os.ReadDir(dir) // if there are none, none is returned
	var all []string
	for _, e := range entries {
		if name, _, _ := strings.Cut(e.Name(), "."); name == part {
			all = append(all, filepath.Join(dir, e.Name()))
		}
	}
	return all
}

// sizeOf returns the size of the files in a folder, in bytes. Files that vanish during the call do not count.
func sizeOf(dir string) int64 {
	var sum int64
	_ = filepath.WalkDir(dir, func(_ string, e fs.DirEntry, err error) error {
		if err == nil && e.Type().IsRegular() {
			if info, err := e.Info(); err == nil {
				sum += info.Size()
			}
		}
		return nil
	})
	return sum
}

// Remove stops the stack, and deletes what Dravit keeps of it: ports, names, configuration and logs, and if withData
// also its data. If the data stay, the next start in the folder finds them. Remove does not touch the project's folder.
func (s *Stack) Remove(ctx context.Context, withData bool) error {
	if _, err := s.Stop(ctx, nil, nil); err != nil {
		return err
	}
	if s.ID == "" {
		return nil
	}
	_ = os.RemoveAll(filepath.Join(s.Home.Run, s.ID))
	kept := []string{}
	if !withData {
		if entries, err := os.ReadDir(s.Home.Stack(s.ID, "data")); err == nil && len(entries) > 0 {
			kept = []string{"data", "keep", "secrets.json"} // the passwords are in the data, too
		}
	}
	entries, err := os.ReadDir(s.Home.Stack(s.ID))
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	for _, e := range entries {
		if !slices.Contains(kept, e.Name()) {
			if err := os.RemoveAll(s.Home.Stack(s.ID, e.Name())); err != nil {
				return err
			}
		}
	}
	var suffixes []string
	err = ledger.Change(ctx, s.Home, func(book *ledger.Ledger) error {
		if len(kept) > 0 {
			was := book.Stacks[s.ID]
			book.Stacks[s.ID] = ledger.Stack{Dir: was.Dir, Name: was.Name, Mark: was.Mark}
		} else {
			delete(book.Stacks, s.ID)
			if err := os.RemoveAll(s.Home.Stack(s.ID)); err != nil {
				return err
			}
		}
		suffixes = book.Suffixes()
		return nil
	})
	if err != nil {
		return err
	}
	return certificates.Narrow(ctx, s.Home, suffixes)
}

// Discard stops the named parts and deletes their data. If a part has no data, it returns trouble.NoPart.
func (s *Stack) Discard(ctx context.Context, parts []string) error {
	k, err := s.Kept()
	if err != nil {
		return err
	}
	var names []string
	for _, d := range k.Data {
		names = append(names, d.Part)
	}
	for _, part := range parts {
		if !slices.Contains(names, part) {
			return trouble.NoSuchPart(part, names)
		}
	}
	spec, err := s.spec()
	if err != nil {
		return err
	}
	running := slices.DeleteFunc(slices.Clone(parts), func(name string) bool { _, ok := spec.Part(name); return !ok })
	if len(running) > 0 {
		if _, err := s.Stop(ctx, running, nil); err != nil {
			return err
		}
	}
	for _, part := range parts {
		for _, folder := range s.dataFolders(part) {
			if err := os.RemoveAll(folder); err != nil {
				return err
			}
		}
	}
	return nil
}
