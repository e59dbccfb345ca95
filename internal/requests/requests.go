// Package requests is the log of what clients asked of a stack's sites: what the gateway writes of each request, and
// how it is read again. It has no bodies, no queries, no cookies and no other header.
package requests

import (
	"bytes"
	"encoding/json"
	"errors"
	"io"
	"io/fs"
	"os"
	"path"
	"strconv"
	"strings"
	"time"

	"dravit/internal/home"
)

// Request is one request, and how it was answered.
type Request struct {
	At     time.Time `json:"at"` // when it came
	Site   string    `json:"site"`
	Method string    `json:"method"`
	Path   string    `json:"path"`   // without the query; at most maxPath bytes
	Status int       `json:"status"` // 0: the client got no whole answer
	Bytes  int64     `json:"bytes"`  // of the answer's body
	MS     float64   `json:"ms"`
	Server string    `json:"server"`         // the part that answered
	App    string    `json:"app,omitempty"`  // the part behind it
	Left   bool      `json:"left,omitempty"` // the client left before the answer had ended
	// Plain: it had no body, no query, no cookie and no log-in, so anybody who asks the same gets the same.
	Plain bool `json:"plain,omitempty"`
	Again bool `json:"again,omitempty"` // a diagnosis asked, to see whether it still fails
	// From are the lengths of the parts' logs, in bytes, when the request came. They are there if it failed, or if the
	// server or the part behind it wrote something meanwhile or a moment later.
	From map[string]int64 `json:"from,omitempty"`
	// To are their lengths when the answer had ended, if From is there. An error may come a moment later.
	To map[string]int64 `json:"to,omitempty"`
	// Late are those that were longer than To when the request was noted (see Settles).
	Late map[string]int64 `json:"late,omitempty"`
}

// Failed reports whether the server's side failed: an error of its own, or no whole answer to a client that waited.
func (r Request) Failed() bool { return r.Status >= 500 || r.Status == 0 && !r.Left }

// Ended returns when the answer had ended.
func (r Request) Ended() time.Time {
	return r.At.Add(time.Duration(r.MS * float64(time.Millisecond)))
}

// Took returns how long the answer took.
func (r Request) Took() time.Duration { return time.Duration(r.MS * float64(time.Millisecond)) }

// maxPath bounds how much of a path is kept, in bytes.
const maxPath = 2000

// File is the log of a stack's requests.
func File(h *home.Home, id string) string { return h.Stack(id, "requests.log") }

// Since returns what a log got after an offset, and the offset after it. A log that is shorter than the offset has been
// rotated: it is read from its beginning. A line that is not whole yet is left for the next call. At most is how many
// bytes are read; of a longer rest only the end counts. A log that does not exist is empty.
func Since(file string, offset, most int64) (all []Request, end int64, err error) {
	return SinceThose(file, offset, most, func([]byte) bool { return true })
}

// SinceThose is Since for the lines that want takes: whoever looks for a few of many saves the reading of the others.
func SinceThose(file string, offset, most int64, want func(line []byte) bool) (all []Request, end int64, err error) {
	f, err := os.Open(file)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, 0, nil
	}
	if err != nil {
		return nil, offset, err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return nil, offset, err
	}
	if offset > info.Size() {
		offset = 0
	}
	skipped := false
	if info.Size()-offset > most {
		offset, skipped = info.Size()-most, true
	}
	text, err := io.ReadAll(io.NewSectionReader(f, offset, info.Size()-offset))
	if err != nil {
		return nil, offset, err
	}
	whole := bytes.LastIndexByte(text, '\n') + 1
	end = offset + int64(whole)
	text = text[:whole]
	if skipped { // it begins within a line
		_, text, _ = bytes.Cut(text, []byte("\n"))
	}
	for line := range bytes.Lines(text) {
		var r Request
		if want(line) && json.Unmarshal(line, &r) == nil && !r.At.IsZero() { // a damaged line says nothing
			all = append(all, r)
		}
	}
	return all, end, nil
}

// PathOf returns the path in a line of the log without reading the rest of it, or "" if there is none.
func PathOf(line []byte) string {
	var found string
	_, rest, _ := bytes.Cut(line, []byte(`"path":`))
	text, _, _ := bytes.Cut(rest, []byte(`,"status":`)) // quotes within a path are escaped
	_ = json.Unmarshal(text, &found)                    // a damaged line has none
	return found
}

// Filter says which requests are wanted. The zero value takes all.
type Filter struct {
	Site   string
	Status string        // 404, 5xx, failed, or "" for any
	Slower time.Duration // at least
	Path   string        // a pattern of path.Match for the whole path, or a prefix that ends with /
	Since  time.Time
}

// CheckStatus returns an error unless a text is a status that Filter understands.
func CheckStatus(text string) error {
	if text == "" || text == "failed" {
		return nil
	}
	if len(text) == 3 && text[0] >= '1' && text[0] <= '5' {
		if _, err := strconv.Atoi(text); err == nil || text[1:] == "xx" {
			return nil
		}
	}
	return errors.New("a status is a number such as 404, a class such as 5xx, or failed")
}

// Takes reports whether a request is wanted. Those of a diagnosis are not.
func (f Filter) Takes(r Request) bool {
	if r.Again || f.Site != "" && r.Site != f.Site || r.Took() < f.Slower || r.At.Before(f.Since) {
		return false
	}
	switch {
	case f.Status == "":
	case f.Status == "failed":
		if !r.Failed() {
			return false
		}
	case strings.HasSuffix(f.Status, "xx"):
		if r.Status/100 != int(f.Status[0]-'0') {
			return false
		}
	case strconv.Itoa(r.Status) != f.Status:
		return false
	}
	if f.Path == "" || strings.HasSuffix(f.Path, "/") && strings.HasPrefix(r.Path, f.Path) {
		return true
	}
	fits, err := path.Match(f.Path, r.Path)
	return err == nil && fits
}

// tailRead is how much of the end of a log is read for its last requests, in bytes.
const tailRead = 4 << 20

// Tail returns the last requests that a filter takes, at most so many, the oldest first, and the offset after them. It
// reads on in the rotated log if the present one has too few.
func Tail(file string, most int, f Filter) (all []Request, end int64, err error) {
	now, end, err := Since(file, 0, tailRead)
	if err != nil {
		return nil, end, err
	}
	if all = filtered(now, f); len(all) < most {
		before, _, err := Since(file+rotated, 0, tailRead)
		if err != nil {
			return nil, end, err
		}
		all = append(filtered(before, f), all...)
	}
	return all[max(0, len(all)-most):], end, nil
}

func filtered(all []Request, f Filter) []Request {
	var out []Request
	for _, r := range all {
		if f.Takes(r) {
			out = append(out, r)
		}
	}
	return out
}
