// Package logfile reads logs while other programs write to them. Logs that grow too long are rotated.
package logfile

import (
	"bytes"
	"errors"
	"io"
	"io/fs"
	"os"
)

// Since returns what a log holds from an offset on, in bytes, and at most the last most bytes of it. end is where the
// log ends now. A log that is shorter than offset was rotated: Since reads it from its beginning. If the log cannot be
// read, Since returns "" and the offset.
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
	read, _ := io.ReadAll(io.NewSectionReader(f, offset, size-offset)) // take what can be read
	return string(read), offset + int64(len(read))
}

// Between returns what a log holds from an offset on up to another one, in bytes, and at most the last most bytes of
// it. If the log was rotated, or cannot be read, it returns "".
func Between(file string, from, to, most int64) string {
	f, err := os.Open(file)
	if err != nil {
		return ""
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil || from > info.Size() {
		return ""
	}
	to = min(to, info.Size())
	from = max(from, to-most)
	if from >= to {
		return ""
	}
	read, _ := io.ReadAll(io.NewSectionReader(f, from, to-from)) // take what can be read
	return string(read)
}

// maxTail is how much of the end of a log Tail reads, in bytes.
const maxTail = 1 << 20

// Tail returns the last n lines of a log without their line ends, and the offset of the log's end. A log that does not
// exist has no lines.
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

// Size returns the length of a log in bytes, or 0 if it does not exist.
func Size(file string) int64 {
	info, err := os.Stat(file)
	if err != nil {
		return 0
	}
	return info.Size()
}
