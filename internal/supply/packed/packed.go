// Package packed makes archives for tests of what unpacks them.
package packed

import (
	"archive/tar"
	"bytes"
	"compress/gzip"
	"errors"
)

// Entry is an entry of an archive.
type Entry struct {
	Name, Text string
	Mode       int64
	Kind       byte // as tar.Header's Typeflag; 0: a file
	Link       string
}

// Tar returns a compressed archive with these entries, whatever they are.
func Tar(entries ...Entry) ([]byte, error) {
	var b bytes.Buffer
	z := gzip.NewWriter(&b)
	w := tar.NewWriter(z)
	for _, e := range entries {
		if e.Kind == 0 {
			e.Kind = tar.TypeReg
		}
		h := &tar.Header{Name: e.Name, Mode: e.Mode, Typeflag: e.Kind, Linkname: e.Link, Size: int64(len(e.Text))}
		if err := w.WriteHeader(h); err != nil {
			return nil, err
		}
		if _, err := w.Write([]byte(e.Text)); err != nil {
			return nil, err
		}
	}
	err := errors.Join(w.Close(), z.Close())
	return b.Bytes(), err
}
