package debian

import (
	"archive/tar"
	"bufio"
	"compress/gzip"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"

	"github.com/klauspost/compress/zstd"
	"github.com/ulikunitz/xz"
)

// Contents returns the files of a package, a .deb (deb(5)): an ar archive whose member data.tar holds them. Only the
// formats without compression, gzip, xz and zstd are known. The caller must close what it gets.
func Contents(deb io.Reader) (*tar.Reader, io.Closer, error) {
	in := bufio.NewReaderSize(deb, 1<<16)
	magic := make([]byte, 8)
	if _, err := io.ReadFull(in, magic); err != nil || string(magic) != "!<arch>\n" {
		return nil, nil, errors.New("it is no Debian package")
	}
	for {
		head := make([]byte, 60)
		if _, err := io.ReadFull(in, head); err != nil {
			return nil, nil, fmt.Errorf("the package has no data: %w", err)
		}
		name := strings.TrimRight(string(head[:16]), "/ ")
		size, err := strconv.ParseInt(strings.TrimSpace(string(head[48:58])), 10, 64)
		if err != nil || size < 0 {
			return nil, nil, fmt.Errorf("the member %q has no size", name)
		}
		if format, ok := strings.CutPrefix(name, "data.tar"); ok {
			plain, err := Plain(io.LimitReader(in, size), format)
			if err != nil {
				return nil, nil, err
			}
			return tar.NewReader(plain), plain, nil
		}
		if _, err := io.CopyN(io.Discard, in, size+size%2); err != nil {
			return nil, nil, err
		}
	}
}

// Plain reads compressed data. format is the ending of the file's name: .gz, .xz, .zst, or none.
func Plain(in io.Reader, format string) (io.ReadCloser, error) {
	switch format {
	case "":
		return io.NopCloser(in), nil
	case ".gz":
		return gzip.NewReader(in)
	case ".xz":
		r, err := xz.NewReader(bufio.NewReaderSize(in, 1<<16))
		return io.NopCloser(r), err
	case ".zst":
		r, err := zstd.NewReader(in)
		if err != nil {
			return nil, err
		}
		return r.IOReadCloser(), nil
	}
	return nil, fmt.Errorf("the compression %s is not known", format)
}
