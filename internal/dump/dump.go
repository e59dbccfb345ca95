// Package dump reads and writes dumps of SQL databases: plain ones, and those that gzip, bzip2, xz or zstd compressed
// or that are in a tar or zip archive.
package dump

import (
	"archive/tar"
	"archive/zip"
	"bufio"
	"bytes"
	"compress/bzip2"
	"compress/gzip"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"regexp"
	"slices"
	"sync/atomic"

	"github.com/klauspost/compress/zstd"
	"github.com/ulikunitz/xz"

	"dravit/internal/confined"
	"dravit/internal/patient"
	"dravit/internal/pattern"
)

// Dump is a dump while it is read. Read returns its SQL.
type Dump struct {
	Size int64 // of the file, in bytes; 0 if it is a pipe

	file  *os.File
	from  io.Reader // of file
	read  atomic.Int64
	text  *bufio.Reader
	close []func()
	tail  []byte // the end of what Read returned
	ended bool   // Read has returned everything
	last  string // what the end contains if it is whole, or "" if that is unknown
}

// headSize is how much of a dump's beginning tells what it is, in bytes.
const headSize = 4096

// Open opens a dump in the folder dir. Links must not lead out of the folder and of the folders in allowed. The caller
// must close it.
func Open(ctx context.Context, dir, name string, allowed ...string) (*Dump, error) {
	file, err := confined.Open(dir, name, allowed...)
	if err != nil {
		return nil, err
	}
	return New(ctx, file)
}

// ErrEmpty says that a dump holds nothing.
var ErrEmpty = errors.New("the dump is empty")

// New returns the dump in a file or a pipe, which it closes if it fails. Reading a pipe ends with the context. The
// caller must close the dump.
func New(ctx context.Context, file *os.File) (*Dump, error) {
	d := &Dump{file: file, from: file}
	info, err := file.Stat()
	if err == nil && info.Mode().IsRegular() {
		d.Size = info.Size()
	} else if err == nil && info.IsDir() {
		err = errors.New("it is a folder")
	} else {
		d.from = patient.Reader(ctx, file)
	}
	if err == nil {
		d.text, err = d.unpack(bufio.NewReaderSize(counter{d}, headSize), 0)
	}
	if errors.Is(err, io.ErrUnexpectedEOF) {
		err = fmt.Errorf("the dump breaks off: %w", err)
	}
	if err != nil {
		return nil, errors.Join(err, d.Close())
	}
	return d, nil
}

// widest is how far back a packed text may refer, in bytes: so much is held in memory.
const widest = 256 << 20

// deepest is how many packings may lie within each other: a zip of a gzip file, say.
const deepest = 4

// unpack chooses how to unpack by the first bytes, whatever the file is called.
func (d *Dump) unpack(in *bufio.Reader, depth int) (*bufio.Reader, error) {
	head, err := in.Peek(tarMagicAt + len(tarMagic))
	if err != nil && !errors.Is(err, io.EOF) {
		return nil, err
	}
	if depth == deepest {
		return nil, errors.New("it is packed too often")
	}
	var text io.Reader
	switch {
	case bytes.HasPrefix(head, []byte{0x1f, 0x8b}): // RFC 1952
		text, err = gzip.NewReader(in)
	case bytes.HasPrefix(head, []byte("BZh")):
		text, err = bzip2.NewReader(in), nil
	case bytes.HasPrefix(head, []byte("\xfd7zXZ\x00")):
		text, err = xz.NewReader(in)
	case bytes.HasPrefix(head, []byte{0x28, 0xb5, 0x2f, 0xfd}): // RFC 8878
		var z *zstd.Decoder
		if z, err = zstd.NewReader(in, zstd.WithDecoderMaxWindow(widest)); err == nil {
			text = z
			d.close = append(d.close, z.Close)
		}
	case bytes.HasPrefix(head, []byte("PK\x03\x04")): // APPNOTE.TXT of PKWARE
		text, err = d.unzip(in, depth)
	case len(head) == tarMagicAt+len(tarMagic) && string(head[tarMagicAt:]) == tarMagic: // pax(1), "ustar"
		text, err = onlyFile(tar.NewReader(in))
	default:
		return in, nil
	}
	if err != nil {
		return nil, err
	}
	return d.unpack(bufio.NewReaderSize(text, headSize), depth+1)
}

const (
	tarMagicAt = 257
	tarMagic   = "ustar"
)

// errSeveral says that an archive holds more than a dump.
var errSeveral = errors.New("the archive holds several files, and which of them is the dump is not clear")

// onlyFile returns the only file of an archive.
func onlyFile(archive *tar.Reader) (io.Reader, error) {
	for {
		head, err := archive.Next()
		if errors.Is(err, io.EOF) {
			return nil, ErrEmpty
		}
		if err != nil {
			return nil, err
		}
		if head.Typeflag == tar.TypeReg {
			return &tarFile{archive}, nil
		}
	}
}

// tarFile is a file of an archive, behind which no other may come.
type tarFile struct{ archive *tar.Reader }

func (f *tarFile) Read(p []byte) (int, error) {
	n, err := f.archive.Read(p)
	if !errors.Is(err, io.EOF) {
		return n, err
	}
	for {
		head, err := f.archive.Next()
		if err != nil {
			return n, err // io.EOF, as a rule
		}
		if head.Typeflag == tar.TypeReg {
			return n, errSeveral
		}
	}
}

// unzip returns the only file of an archive, whose list is at its end: a pipe is copied first.
func (d *Dump) unzip(in io.Reader, depth int) (io.Reader, error) {
	file, size := d.file, d.Size
	if size == 0 || depth > 0 {
		spool, err := os.CreateTemp("", "dravit-dump-")
		if err != nil {
			return nil, err
		}
		os.Remove(spool.Name()) // it exists as long as it is open
		d.close = append(d.close, func() { spool.Close() })
		if size, err = io.Copy(spool, in); err != nil {
			return nil, err
		}
		file = spool
	}
	archive, err := zip.NewReader(file, size)
	if err != nil {
		return nil, err
	}
	var found *zip.File
	for _, f := range archive.File {
		switch {
		case !f.Mode().IsRegular():
		case found != nil:
			return nil, errSeveral
		default:
			found = f
		}
	}
	if found == nil {
		return nil, ErrEmpty
	}
	text, err := found.Open()
	if err != nil {
		return nil, err
	}
	d.close = append(d.close, func() { text.Close() })
	if d.Size > 0 { // what is read of the file follows what is read of the text
		return &scaled{text, d, int64(found.UncompressedSize64), 0}, nil
	}
	return text, nil
}

// scaled counts the text of a zip archive as if it were its file.
type scaled struct {
	text  io.Reader
	d     *Dump
	whole int64
	done  int64
}

func (s *scaled) Read(p []byte) (int, error) {
	n, err := s.text.Read(p)
	s.done += int64(n)
	if s.whole > 0 {
		s.d.read.Store(int64(float64(s.d.Size) * float64(s.done) / float64(s.whole)))
	}
	return n, err
}

// counter reads the file and counts its bytes.
type counter struct{ d *Dump }

func (c counter) Read(p []byte) (int, error) {
	n, err := c.d.from.Read(p)
	c.d.read.Add(int64(n))
	return n, err
}

// Done returns how many bytes of the file were read. It may be called while another goroutine reads.
func (d *Dump) Done() int64 { return d.read.Load() }

// tailSize is how much of a dump's end tells whether it is whole, in bytes.
const tailSize = 512

func (d *Dump) Read(p []byte) (int, error) {
	n, err := d.text.Read(p)
	d.tail = append(d.tail, p[max(0, n-tailSize):n]...)
	d.tail = d.tail[max(0, len(d.tail)-tailSize):]
	d.ended = d.ended || errors.Is(err, io.EOF)
	return n, err
}

// Ended reports whether Read has returned everything.
func (d *Dump) Ended() bool { return d.ended }

// Whole returns an error if the dump was read to its end, and the words are missing with which the program that wrote
// it ends its dumps.
func (d *Dump) Whole() error {
	if d.ended && d.last != "" && !bytes.Contains(d.tail, []byte(d.last)) {
		return errors.New("the dump breaks off: its end is missing (" + d.last + ")")
	}
	return nil
}

// Empty reports whether the dump holds nothing. Call it before Read.
func (d *Dump) Empty() bool {
	_, err := d.text.Peek(1)
	return errors.Is(err, io.EOF)
}

// Close closes the file.
func (d *Dump) Close() error {
	for _, c := range slices.Backward(d.close) {
		c()
	}
	return d.file.Close()
}

// writers are how the programs that write dumps introduce themselves, with the name of their server's kind, and the
// words at the end of what they write.
var writers = []struct{ kind, words, last string }{
	{"mariadb", "-- MariaDB dump", "-- Dump completed"},
	{"mariadb", "-- MySQL dump", "-- Dump completed"},
	{"postgres", "-- PostgreSQL database dump", "-- PostgreSQL database dump complete"},
	{"postgres", "-- PostgreSQL database cluster dump", "-- PostgreSQL database cluster dump complete"},
	{"postgres", "PGDMP", ""}, // an archive: pg_dump -Fc
	{"sqlite", "PRAGMA foreign_keys=OFF;", "COMMIT;"},
}

// Kind returns the name of the kind of server whose program wrote the dump, or "" if it does not say. It reads nothing
// that Read would not return. Call it before Read.
func (d *Dump) Kind() string {
	head, _ := d.text.Peek(headSize) // a shorter dump is whole
	for _, w := range writers {
		if bytes.Contains(head, []byte(w.words)) {
			d.last = w.last
			return w.kind
		}
	}
	return ""
}

// servers are how the programs that write dumps name the version of the server.
var servers = []func() *regexp.Regexp{
	pattern.New(`(?m)^-- Dumped from database version (\d+(?:\.\d+)*)`),
	pattern.New(`(?m)^-- Server version\s+(\d+(?:\.\d+)*)`),
	pattern.New(`(?m)^-- (?:MariaDB|MySQL) dump [^\n]*Distrib (\d+(?:\.\d+)*)`),
}

// Version returns the version of the server that the dump is of, or "" if it does not say. It reads nothing that Read
// would not return. Call it before Read.
func (d *Dump) Version() string {
	head, _ := d.text.Peek(headSize) // a shorter dump is whole
	for _, words := range servers {
		if m := words().FindSubmatch(head); m != nil {
			return string(m[1])
		}
	}
	return ""
}

// LongestStatement is the longest statement of a dump that is loaded, in bytes: it is held in memory. Rows that come by
// COPY have no such limit.
const LongestStatement = 128 << 20
