package fetch

import (
	"context"
	"crypto/subtle"
	"errors"
	"fmt"
	"hash"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"time"

	"crypto/sha256"
	"dravit/internal/proc"
	"encoding/hex"
)

// StallAfter is how long a source may send nothing.
const StallAfter = 30 * time.Second

// tries is how often a file is asked for that breaks off. What came already is kept.
const tries = 4

// AtOnce is how many files are fetched side by side.
const AtOnce = 6

// ErrDamaged says that a file is not the one that the source's list describes.
var ErrDamaged = errors.New("it is not what the source's own list describes: its digest is another one")

// LongestFile is how long a file may be whose source does not say how long it is, in bytes.
const LongestFile = 2 << 30

// Get downloads a file that has a certain digest and at most a number of bytes. It goes on where an earlier call broke
// off. What has another digest, or is longer, is deleted.
func (r Route) Get(ctx context.Context, address, file string, sum hash.Hash, want []byte, most int64,
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
	if errors.Is(err, ErrTooLong) {
		return errors.Join(fmt.Errorf("%s: %w", address, err), os.Remove(file))
	}
	if err != nil {
		return err
	}
	if err := Read(file, sum); err != nil {
		return err
	}
	if subtle.ConstantTimeCompare(sum.Sum(nil), want) != 1 {
		return errors.Join(fmt.Errorf("%s: %w", address, ErrDamaged), os.Remove(file))
	}
	return nil
}

// Read reads a file into a hash.
func Read(file string, into hash.Hash) error {
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

// SumOf returns the SHA-256 of a file, in hexadecimal.
func SumOf(file string) (string, error) {
	sum := sha256.New()
	err := Read(file, sum)
	return hex.EncodeToString(sum.Sum(nil)), err
}

// ErrTooLong says that a source sends more than its list describes.
var ErrTooLong = errors.New("it is longer than the source's own list describes")

// download writes what an address has to a file, after what the file has already: at most so many bytes in all.
func (r Route) download(ctx context.Context, address, file string, most int64, progress func(done int64)) error {
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
	stalled := time.AfterFunc(StallAfter, func() { cancel(fmt.Errorf("nothing came for %s", StallAfter)) })
	defer stalled.Stop()
	head := map[string]string{"Accept-Encoding": "identity"}
	if have > 0 {
		head["Range"] = fmt.Sprintf("bytes=%d-", have)
	}
	resp, err := r.Ask(ctx, http.MethodGet, address, head)
	var status StatusError
	switch {
	case errors.As(err, &status) && status.Code == http.StatusRequestedRangeNotSatisfiable:
		return nil // it is whole already
	case errors.As(err, &status) && status.Code < 500:
		return err
	case err != nil:
		return fmt.Errorf("%w: %w", errBrokeOff, Because(ctx, err))
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
		stalled.Reset(StallAfter)
		if have += int64(n); have > most {
			return ErrTooLong
		}
		if _, err := out.Write(buf[:n]); err != nil {
			return err // the disk is full, say
		}
		progress(have)
		if errors.Is(err, io.EOF) {
			return out.Sync()
		}
		if err != nil {
			return fmt.Errorf("%w: %w", errBrokeOff, Because(ctx, err))
		}
	}
}

func seekStart(f *os.File) error { _, err := f.Seek(0, io.SeekStart); return err }

// Because returns why a context ended, if it did.
func Because(ctx context.Context, err error) error {
	if cause := context.Cause(ctx); cause != nil {
		return cause
	}
	return err
}
