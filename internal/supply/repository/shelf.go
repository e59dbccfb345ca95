package repository

import (
	"archive/tar"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/url"
	"os"
	"path"
	"path/filepath"
	"runtime"
	"strings"
	"sync"

	"golang.org/x/sync/errgroup"

	"dravit/internal/debian"
	"dravit/internal/home"
	"dravit/internal/supply"
	"dravit/internal/supply/fetch"
	"dravit/internal/trouble"
)

// shelf returns the folder with the files of a package, which all trees that have it share.
func (s *Source) shelf(p debian.Package) string {
	return s.Path("packages", supply.ShelfName(p.Name, p.SHA256))
}

// stock puts packages on their shelves that are not there yet. progress is called with the bytes that are done: half of
// a package's when it is fetched, and all when it is unpacked, as both take long.
func (s *Source) stock(ctx context.Context, packages []debian.Package, progress func(done int64)) error {
	if err := os.MkdirAll(s.Path("packages"), 0o700); err != nil {
		return err
	}
	var mu sync.Mutex
	done := map[string]int64{}
	count := func(name string, bytes int64) {
		mu.Lock()
		defer mu.Unlock()
		done[name] = bytes
		var sum int64
		for _, n := range done {
			sum += n
		}
		progress(sum)
	}
	var fresh []debian.Package
	defer func() {
		for _, p := range fresh {
			_ = os.RemoveAll(s.shelf(p) + supply.NewSuffix) // it is gone after the rename
		}
	}()
	g, ctx := errgroup.WithContext(ctx)
	g.SetLimit(fetch.AtOnce)
	turns := make(chan struct{}, runtime.NumCPU()) // to unpack takes a processor and memory
	for _, p := range packages {
		if _, err := os.Stat(s.shelf(p)); err == nil {
			continue
		}
		fresh = append(fresh, p)
		g.Go(func() error {
			if err := s.receive(ctx, p, s.parcel(p), func(n int64) { count(p.Name, n/2) }); err != nil {
				return err
			}
			turns <- struct{}{}
			defer func() { <-turns }()
			err := s.fill(ctx, p)
			count(p.Name, p.Bytes)
			return err
		})
	}
	if err := g.Wait(); err != nil {
		return err
	}
	if len(fresh) == 0 {
		return nil
	}
	if err := supply.Sync(s.Path("packages")); err != nil {
		return err
	}
	for _, p := range fresh {
		if err := os.Rename(s.shelf(p)+supply.NewSuffix, s.shelf(p)); err != nil {
			return err
		}
		_ = os.Remove(s.parcel(p)) // it only takes room
	}
	return nil
}

// parcel returns the file that a package is fetched into.
func (s *Source) parcel(p debian.Package) string { return s.Path("cache", p.SHA256+".deb") }

// receive fetches a package into a file.
func (s *Source) receive(ctx context.Context, p debian.Package, file string, progress func(done int64)) error {
	want, err := hex.DecodeString(p.SHA256)
	if err != nil || !fs.ValidPath(p.File) {
		return fmt.Errorf("the list describes the package %s wrongly", p.Name)
	}
	address := p.Base + "/" + (&url.URL{Path: p.File}).EscapedPath()
	route := fetch.Signed
	for _, r := range s.Suites {
		if strings.TrimSuffix(r.Address, "/") == p.Base {
			route = r.route()
		}
	}
	err = route.Get(ctx, address, file, sha256.New(), want, p.Bytes, progress)
	var status fetch.StatusError
	if errors.As(err, &status) {
		return &trouble.Trouble{Code: trouble.NoSource, Because: err.Error(), Err: err,
			What: "the source " + fetch.HostOf(p.Base) + " does not have " + p.Name + " " + p.Version,
			Next: "another mirror; an exported folder has only the programs that it was made from"}
	}
	return err
}

// fill unpacks a package into its new shelf.
func (s *Source) fill(ctx context.Context, p debian.Package) error {
	f, err := os.Open(s.parcel(p))
	if err != nil {
		return err
	}
	defer f.Close()
	dir := s.shelf(p) + supply.NewSuffix
	if err := errors.Join(os.RemoveAll(dir), os.MkdirAll(filepath.Join(dir, "files"), 0o700)); err != nil {
		return err
	}
	in, closer, err := debian.Contents(f)
	if err != nil {
		return fmt.Errorf("unpacking %s: %w", p.Name, err)
	}
	defer closer.Close()
	sums, err := unpackPackage(ctx, in, filepath.Join(dir, "files"))
	if err != nil {
		return fmt.Errorf("unpacking %s: %w", p.Name, err)
	}
	return home.WriteCache(filepath.Join(dir, supply.SumsFile), sums)
}

// unread matches what no server reads.
var unread = []string{"usr/share/doc/", "usr/share/man/", "usr/share/info/", "usr/share/lintian/", "usr/share/bug/",
	"usr/share/locale/", "usr/share/doc-base/", "usr/share/bash-completion/"}

// unpackPackage writes what a package holds into an empty folder, and returns the SHA-256 of each file by its path. No
// entry leaves the folder, also not through a link; there are no devices and no set-user bits.
func unpackPackage(ctx context.Context, in *tar.Reader, dir string) (map[string]string, error) {
	root, err := os.OpenRoot(dir)
	if err != nil {
		return nil, err
	}
	defer root.Close()
	sums := map[string]string{}
	return sums, supply.EachEntry(ctx, in, func(h *tar.Header) error { return unpackMember(root, in, h, sums) })
}

func unpackMember(root *os.Root, in io.Reader, h *tar.Header, sums map[string]string) error {
	name, err := placeOf(h.Name)
	if err != nil || name == "." {
		return err
	}
	for _, prefix := range unread {
		if strings.HasPrefix(name+"/", prefix) {
			return nil
		}
	}
	if h.Typeflag == tar.TypeDir {
		return folders(root, name)
	}
	if err := folders(root, path.Dir(name)); err != nil {
		return err
	}
	switch h.Typeflag {
	case tar.TypeReg:
	case tar.TypeSymlink:
		target, err := targetOf(name, h.Linkname)
		if err != nil {
			return err
		}
		return root.Symlink(target, name)
	case tar.TypeLink:
		other, err := placeOf(h.Linkname)
		if err != nil {
			return err
		}
		if _, known := sums[other]; !known {
			return errors.New("it is a link to nothing in the package")
		}
		sums[name] = sums[other]
		return root.Link(other, name)
	default:
		return errors.New("it is neither a file, a folder nor a link")
	}
	return supply.WriteEntry(root, in, h, name, 0o444, sums)
}

// folders makes a folder and those that it is in. None may be a link: what is behind one is elsewhere than its path
// says.
func folders(root *os.Root, name string) error {
	for at := name; at != "."; at = path.Dir(at) {
		if info, err := root.Lstat(at); err == nil && !info.IsDir() {
			return fmt.Errorf("%s is no folder", at)
		}
	}
	return root.MkdirAll(name, 0o755)
}

// merged are folders that systems have as links to those below usr.
var merged = []string{"bin", "sbin", "lib", "lib32", "lib64", "libx32"}

// placeOf returns where an entry of a package belongs in a tree.
func placeOf(name string) (string, error) {
	name = strings.TrimSuffix(strings.TrimPrefix(name, "./"), "/")
	if name == "" {
		name = "."
	}
	if !fs.ValidPath(name) {
		return "", errors.New("the path leaves the package's folder")
	}
	first, _, _ := strings.Cut(name, "/")
	for _, m := range merged {
		if first == m {
			return "usr/" + name, nil
		}
	}
	return name, nil
}

// targetOf returns the target of a symbolic link as a relative path that stays in the tree. An absolute one is meant
// below the tree.
func targetOf(name, target string) (string, error) {
	if target == "" || strings.ContainsRune(target, 0) {
		return "", errors.New("the link leads nowhere")
	}
	at := strings.TrimPrefix(path.Clean(target), "/")
	if !path.IsAbs(target) {
		at = path.Join(path.Dir(name), target)
	}
	if at == "" {
		at = "."
	}
	at, err := placeOf(at)
	if err != nil {
		return "", errors.New("the link leaves the package's folder")
	}
	return filepath.Rel(path.Dir(name), at)
}
