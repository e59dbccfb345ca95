package gateway

import (
	"bytes"
	"errors"
	"io"
	"net/http"
	"os"
	"sync/atomic"
)

const (
	spoolMemory = 64 << 10 // bytes of a request's body that stay in memory; a longer one goes to a file
	spoolLimit  = 2 << 30  // the most bytes that a request's body may have
)

// waiting counts the bytes of bodies that are in files until a server takes them, of this user's processes and of all
// others: those of other users and of other machines must not fill this user's disk.
type waiting struct{ own, others atomic.Int64 }

const (
	ownLimit    = 4 << 30
	othersLimit = 64 << 20
)

// errTooMuchWaits says that a body is not taken, as others wait.
var errTooMuchWaits = errors.New("too many bytes of bodies wait")

// spool reads a request's whole body before the request occupies a worker of a runtime: slow uploads to one site must
// not occupy the workers that all sites share. It returns what closes the body, or an error if the body broke off or is
// too long.
func (t *table) spool(w http.ResponseWriter, r *http.Request) (done func(), err error) {
	body := http.MaxBytesReader(w, r.Body, spoolLimit)
	var head bytes.Buffer
	n, err := io.Copy(&head, io.LimitReader(body, spoolMemory))
	if err != nil {
		return nil, err
	}
	if n < spoolMemory {
		r.Body, r.ContentLength, r.TransferEncoding = io.NopCloser(&head), n, nil
		return func() {}, nil
	}
	file, err := os.CreateTemp("", "dravit-body-")
	if err != nil {
		return nil, err
	}
	_ = os.Remove(file.Name()) // the file exists as long as it is open
	counted := &countedFile{File: file, all: &t.waits.others, limit: othersLimit}
	if t.private(r) {
		counted.all, counted.limit = &t.waits.own, ownLimit
	}
	done = func() {
		file.Close()
		counted.all.Add(-counted.n)
	}
	if n, err = io.Copy(counted, io.MultiReader(&head, body)); err == nil {
		_, err = file.Seek(0, io.SeekStart)
	}
	if err != nil {
		done()
		return nil, err
	}
	r.Body, r.ContentLength, r.TransferEncoding = io.NopCloser(file), n, nil
	return done, nil
}

// countedFile is a file whose bytes count in a sum that has a limit.
type countedFile struct {
	*os.File
	all   *atomic.Int64
	limit int64
	n     int64 // of this file
}

func (f *countedFile) Write(p []byte) (int, error) {
	f.n += int64(len(p))
	if f.all.Add(int64(len(p))) > f.limit {
		return 0, errTooMuchWaits
	}
	return f.File.Write(p)
}

// ReadFrom hides that of the file, which would count nothing.
func (f *countedFile) ReadFrom(r io.Reader) (int64, error) {
	return io.Copy(struct{ io.Writer }{f}, r)
}
