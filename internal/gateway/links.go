package gateway

import (
	"errors"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"sync"
	"syscall"
	"time"

	"dravit/internal/confined"
)

// folders remembers for a moment whether folders lead out of a project, by their paths below the document root.
type folders struct {
	mu   sync.Mutex
	seen map[string]folder
}

type folder struct {
	at  time.Time
	out bool
}

// folderLife is how long a folder is believed to lead where it led: a page and its pictures are asked at once.
const folderLife = time.Second

// indexes are what a web server answers with for a folder.
var indexes = []string{"index.php", "index.html"}

// mostFolders bounds what is remembered.
const mostFolders = 1000

// leadsOut reports whether a path of a URL names a file below the site's document root that a link points to, out of
// the project and of the folders that the user of this machine allowed. A path that names none is for the application.
func (to *target) leadsOut(urlPath string) bool {
	if to.Root == "" {
		return false
	}
	name := path.Clean("/" + urlPath)
	info, err := os.Lstat(to.Root + name)
	for errors.Is(err, syscall.ENOTDIR) { // a script with a path behind it
		name = path.Dir(name)
		info, err = os.Lstat(to.Root + name)
	}
	if name != "/" && to.folders.leadOut(path.Dir(name), to.outside) {
		return true
	}
	if err != nil {
		return false
	}
	if info.Mode()&fs.ModeSymlink != 0 {
		if to.outside(name) {
			return true
		}
		if info, err = os.Stat(to.Root + name); err != nil {
			return false
		}
	}
	return info.IsDir() && slices.ContainsFunc(indexes, func(index string) bool {
		at := path.Join(name, index)
		x, err := os.Lstat(to.Root + at)
		return err == nil && x.Mode()&fs.ModeSymlink != 0 && to.outside(at)
	})
}

// outside reports whether a path below the document root leads out.
func (to *target) outside(name string) bool {
	resolved, err := filepath.EvalSymlinks(to.Root + name)
	if err != nil {
		return false // the server finds nothing there, either
	}
	return !slices.ContainsFunc(to.Within, func(dir string) bool { return confined.Inside(dir, resolved) })
}

// leadOut reports whether a folder leads out.
func (f *folders) leadOut(name string, outside func(name string) bool) bool {
	f.mu.Lock()
	x, known := f.seen[name]
	f.mu.Unlock()
	if known && time.Since(x.at) < folderLife {
		return x.out
	}
	x = folder{time.Now(), outside(name)}
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.seen == nil || len(f.seen) >= mostFolders {
		f.seen = map[string]folder{}
	}
	f.seen[name] = x
	return x.out
}
