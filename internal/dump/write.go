package dump

import (
	"archive/zip"
	"compress/gzip"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"

	"github.com/klauspost/compress/zstd"
	"github.com/ulikunitz/xz"
)

// Write writes a dump to a file, packed as its name ends: .gz, .bz2, .xz, .zst or .zip, else plain. The file appears
// when it is whole; an older one of the name is replaced then. What is written may be read by this user only.
func Write(file string, dump func(to io.Writer) error) (err error) {
	fresh, err := os.CreateTemp(filepath.Dir(file), "."+filepath.Base(file)+".new-*") // of mode 0600
	if err != nil {
		return err
	}
	defer os.Remove(fresh.Name()) // it fails after the rename, as it should
	to, err := pack(fresh, file)
	if err != nil {
		return errors.Join(err, fresh.Close())
	}
	err = dump(to)
	if err = errors.Join(err, to.Close()); err == nil {
		err = fresh.Sync()
	}
	if err = errors.Join(err, fresh.Close()); err != nil {
		return err
	}
	return os.Rename(fresh.Name(), file)
}

// pack returns a writer that packs what it gets into a file.
func pack(to *os.File, name string) (io.WriteCloser, error) {
	base := filepath.Base(name)
	switch ending := strings.ToLower(filepath.Ext(base)); ending {
	case ".gz":
		return gzip.NewWriter(to), nil
	case ".xz":
		return xz.NewWriter(to)
	case ".zst":
		return zstd.NewWriter(to)
	case ".bz2":
		return through(to, "bzip2", "-c")
	case ".zip":
		archive := zip.NewWriter(to)
		inner := strings.TrimSuffix(base, filepath.Ext(base))
		if filepath.Ext(inner) == "" {
			inner += ".sql"
		}
		entry, err := archive.Create(inner)
		return zipped{entry, archive}, err
	case ".tar", ".tgz", ".7z", ".rar":
		return nil, fmt.Errorf(
			"a dump is not written as %s: name it .sql, .sql.gz, .sql.zst, .sql.xz, .sql.bz2 or .zip",
			ending,
		)
	}
	return plain{to}, nil
}

type plain struct{ io.Writer }

func (plain) Close() error { return nil }

type zipped struct {
	io.Writer
	archive *zip.Writer
}

func (z zipped) Close() error { return z.archive.Close() }

// through packs with a program: Go's library has no way to write that format.
func through(to *os.File, program string, args ...string) (io.WriteCloser, error) {
	cmd := exec.Command(program, args...)
	cmd.Stdout = to
	in, err := cmd.StdinPipe()
	if err == nil {
		err = cmd.Start()
	}
	if err != nil {
		return nil, fmt.Errorf("%s is needed to write this format: %w", program, err)
	}
	return packer{in, cmd}, nil
}

type packer struct {
	io.WriteCloser
	cmd *exec.Cmd
}

func (p packer) Close() error { return errors.Join(p.WriteCloser.Close(), p.cmd.Wait()) }
