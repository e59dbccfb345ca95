// Package dump reads dumps of SQL databases: plain ones, and those that gzip, bzip2, xz or zstd compressed.
package dump

import (
	"bufio"
	"bytes"
	"compress/bzip2"
	"compress/gzip"
	"io"
	"os"
	"sync/atomic"

	"github.com/klauspost/compress/zstd"
	"github.com/ulikunitz/xz"

	"dravit/internal/confined"
)

// Dump is a dump while it is read. Read returns its SQL.
type Dump struct {
	Size int64 // of the file, in bytes

	file  *os.File
	read  atomic.Int64
	text  *bufio.Reader
	close func()
}

// headSize is how much of a dump's beginning tells what it is, in bytes.
const headSize = 4096

// Open opens a dump in the folder dir. Links must not lead out of the folder and of the folders in allowed. The caller
// must close it.
func Open(dir, name string, allowed ...string) (*Dump, error) {
	file, err := confined.Open(dir, name, allowed...)
	if err != nil {
		return nil, err
	}
	info, err := file.Stat()
	if err != nil {
		file.Close()
		return nil, err
	}
	d := &Dump{Size: info.Size(), file: file, close: func() {}}
	if err := d.unpack(); err != nil {
		file.Close()
		return nil, err
	}
	return d, nil
}

// unpack chooses the decompression by the first bytes of the file, whatever the file is called.
func (d *Dump) unpack() error {
	in := bufio.NewReaderSize(counter{d}, headSize)
	head, err := in.Peek(6)
	if err != nil && err != io.EOF {
		return err
	}
	var text io.Reader = in
	switch {
	case bytes.HasPrefix(head, []byte{0x1f, 0x8b}): // RFC 1952
		text, err = gzip.NewReader(in)
	case bytes.HasPrefix(head, []byte("BZh")):
		text, err = bzip2.NewReader(in), nil
	case bytes.HasPrefix(head, []byte("\xfd7zXZ\x00")):
		text, err = xz.NewReader(in)
	case bytes.HasPrefix(head, []byte{0x28, 0xb5, 0x2f, 0xfd}): // RFC 8878
		var z *zstd.Decoder
		if z, err = zstd.NewReader(in); err == nil {
			text, d.close = z, z.Close
		}
	default:
		err = nil
	}
	if err != nil {
		return err
	}
	d.text = bufio.NewReaderSize(text, headSize)
	return nil
}

// counter reads the file and counts its bytes.
type counter struct{ d *Dump }

func (c counter) Read(p []byte) (int, error) {
	n, err := c.d.file.Read(p)
	c.d.read.Add(int64(n))
	return n, err
}

// Done returns how many bytes of the file were read. It may be called while another goroutine reads.
func (d *Dump) Done() int64 { return d.read.Load() }

func (d *Dump) Read(p []byte) (int, error) { return d.text.Read(p) }

// Close closes the file.
func (d *Dump) Close() error {
	d.close()
	return d.file.Close()
}

// writers are how the programs that write dumps introduce themselves, with the name of their server's kind.
var writers = []struct{ kind, words string }{
	{"mariadb", "-- MariaDB dump"},
	{"mariadb", "-- MySQL dump"},
	{"postgres", "-- PostgreSQL database dump"},
	{"postgres", "-- PostgreSQL database cluster dump"},
	{"sqlite", "PRAGMA foreign_keys=OFF;"},
}

// Kind returns the name of the kind of server whose program wrote the dump, or "" if it does not say. It reads nothing
// that Read would not return.
func (d *Dump) Kind() string {
	head, _ := d.text.Peek(headSize) // a shorter dump is whole
	for _, w := range writers {
		if bytes.Contains(head, []byte(w.words)) {
			return w.kind
		}
	}
	return ""
}

// Custom reports whether the dump is in PostgreSQL's own archive format, which is no SQL (pg_dump -Fc).
func (d *Dump) Custom() bool {
	head, _ := d.text.Peek(5)
	return string(head) == "PGDMP"
}
