package supply

import (
	"context"
	"crypto/sha512"
	"crypto/subtle"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"fmt"
	"hash"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"time"

	"dravit/internal/proc"
)

// stallAfter is how long a source may send nothing.
const stallAfter = 30 * time.Second

// tries is how often a file is asked for that breaks off. What came already is kept.
const tries = 4

// atOnce is how many files are fetched side by side.
const atOnce = 6

// ErrDamaged says that a file is not the one that the source's list describes.
var ErrDamaged = errors.New("it is not what the source's own list describes: its digest is another one")

// digest returns the SHA-512 that an integrity text names.
func digest(integrity string) ([]byte, error) {
	for _, word := range strings.Fields(integrity) {
		if text, ok := strings.CutPrefix(word, "sha512-"); ok {
			sum, err := base64.StdEncoding.DecodeString(text)
			if err == nil && len(sum) == sha512.Size {
				return sum, nil
			}
		}
	}
	return nil, errors.New("the registry's document names no SHA-512 for the package")
}

// short returns the beginning of the digest, for names of files.
func short(integrity string) string {
	sum, err := digest(integrity)
	if err != nil {
		return "none"
	}
	return hex.EncodeToString(sum[:6])
}

// fetch downloads the package of an offer, and returns its file, which is what the document describes. It goes on where
// an earlier call broke off.
func (s Supplier) fetch(ctx context.Context, o Offer, progress func(done int64)) (string, error) {
	want, err := digest(o.integrity)
	if err != nil {
		return "", err
	}
	file := s.path("cache", hex.EncodeToString(want[:16])+".tgz")
	return file, s.route().get(ctx, o.tarball, file, sha512.New(), want, longestFile, progress)
}

// longestFile is how long a file may be whose source does not say how long it is, in bytes.
const longestFile = 2 << 30

// get downloads a file that has a certain digest and at most a number of bytes. It goes on where an earlier call broke
// off. What has another digest, or is longer, is deleted.
func (r route) get(ctx context.Context, address, file string, sum hash.Hash, want []byte, most int64,
	progress func(done int64)) error {
	if err := os.MkdirAll(filepath.Dir(file), 0o700); err != nil {
		return err
	}
	var err error
	for try := 1; ; try++ {
		err = r.download(ctx, address, file, most, progress)
		if err == nil || ctx.Err() != nil || try == tries || !errors.Is(err, errBrokeOff) {
			break
		}
		if err := proc.Sleep(ctx, time.Duration(try)*time.Second); err != nil {
			return err
		}
	}
	if errors.Is(err, errTooLong) {
		return errors.Join(fmt.Errorf("%s: %w", address, err), os.Remove(file))
	}
	if err != nil {
		return err
	}
	if err := read(file, sum); err != nil {
		return err
	}
	if subtle.ConstantTimeCompare(sum.Sum(nil), want) != 1 {
		return errors.Join(fmt.Errorf("%s: %w", address, ErrDamaged), os.Remove(file))
	}
	return nil
}

func read(file string, into hash.Hash) error {
	f, err := os.Open(file)
	if err != nil {
		return err
	}
	defer f.Close()
	_, err = io.Copy(into, f)
	return err
}

// errBrokeOff says that a download may be continued.
var errBrokeOff = errors.New("the download broke off")

// errTooLong says that a source sends more than its list describes.
var errTooLong = errors.New("it is longer than the source's own list describes")

// download writes what an address has to a file, after what the file has already: at most so many bytes in all.
func (r route) download(ctx context.Context, address, file string, most int64, progress func(done int64)) error {
	out, err := os.OpenFile(file, os.O_CREATE|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	defer out.Close()
	have, err := out.Seek(0, io.SeekEnd)
	if err != nil {
		return err
	}
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	stalled := time.AfterFunc(stallAfter, func() { cancel(fmt.Errorf("nothing came for %s", stallAfter)) })
	defer stalled.Stop()
	head := map[string]string{"Accept-Encoding": "identity"}
	if have > 0 {
		head["Range"] = fmt.Sprintf("bytes=%d-", have)
	}
	resp, err := r.ask(ctx, http.MethodGet, address, head)
	var status statusError
	switch {
	case errors.As(err, &status) && status.code == http.StatusRequestedRangeNotSatisfiable:
		return nil // it is whole already
	case errors.As(err, &status) && status.code < 500:
		return err
	case err != nil:
		return fmt.Errorf("%w: %w", errBrokeOff, because(ctx, err))
	}
	defer resp.Body.Close()
	if have > 0 && resp.StatusCode != http.StatusPartialContent {
		have = 0
		if err := errors.Join(out.Truncate(0), seekStart(out)); err != nil {
			return err
		}
	}
	buf := make([]byte, 128<<10)
	for {
		n, err := resp.Body.Read(buf)
		stalled.Reset(stallAfter)
		if have += int64(n); have > most {
			return errTooLong
		}
		if _, err := out.Write(buf[:n]); err != nil {
			return err // the disk is full, say
		}
		progress(have)
		if errors.Is(err, io.EOF) {
			return out.Sync()
		}
		if err != nil {
			return fmt.Errorf("%w: %w", errBrokeOff, because(ctx, err))
		}
	}
}

func seekStart(f *os.File) error { _, err := f.Seek(0, io.SeekStart); return err }

// because returns why a context ended, if it did.
func because(ctx context.Context, err error) error {
	if cause := context.Cause(ctx); cause != nil {
		return cause
	}
	return err
}
