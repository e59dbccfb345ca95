// Package logfile reads logs that other programs write to meanwhile, and that are put aside when they grow too long.
package logfile

import (
	"bytes"
	"errors"
	"io"
	"io/fs"
	"os"
)

// Since returns what a log holds from an offset on, in bytes: at most the last most bytes of it. end is where the log
// ends now. A log that is shorter than offset was put aside: it is read from its beginning. Of one that cannot be read,
// Since returns "" and the offset.
func Since(file string, offset, most int64) (text string, end int64) {
	f, err := os.Open(file)
	if err != nil {
		return "", offset
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return "", offset
	}
	size := info.Size()
	if offset > size {
		offset = 0
	}
	offset = max(offset, size-most)
	read, _ := io.ReadAll(io.NewSectionReader(f, offset, size-offset)) // what can be read of it
	return string(read), offset + int64(len(read))
}

// maxTail is how much of a log Tail looks at, in bytes.
const maxTail = 1 << 20

// Tail returns the last n lines of a log, without their ends, and where it ends now. A log that is not there has none.
func Tail(file string, n int) (lines []string, end int64, err error) {
	lines = []string{}
	f, err := os.Open(file)
	if errors.Is(err, fs.ErrNotExist) {
		return lines, 0, nil
	}
	if err != nil {
		return nil, 0, err
	}
	f.Close()
	text, end := Since(file, 0, maxTail)
	for line := range bytes.Lines([]byte(text)) {
		lines = append(lines, string(bytes.TrimRight(line, "\r\n")))
	}
	return lines[max(0, len(lines)-n):], end, nil
}

// Size returns the length of a log in bytes, 0 if it is not there.
func Size(file string) int64 {
	info, err := os.Stat(file)
	if err != nil {
		return 0
	}
	return info.Size()
}
