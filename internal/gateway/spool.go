package gateway

import (
	"bytes"
	"io"
	"net/http"
	"os"
)

const (
	spoolMemory = 64 << 10 // bytes of a request's body that stay in memory; a longer one goes to a file
	spoolLimit  = 2 << 30  // the most bytes that a request's body may have
)

// spool reads a request's whole body before the request occupies a worker of a runtime: slow uploads to one site must
// not occupy the workers that all sites share. It returns what closes the body, or an error if the body broke off or is
// too long.
func spool(w http.ResponseWriter, r *http.Request) (done func(), err error) {
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
	whole := io.MultiReader(&head, body)
	if n, err = io.Copy(file, whole); err == nil {
		_, err = file.Seek(0, io.SeekStart)
	}
	if err != nil {
		file.Close()
		return nil, err
	}
	r.Body, r.ContentLength, r.TransferEncoding = io.NopCloser(file), n, nil
	return func() { file.Close() }, nil
}
