package requests

import (
	"net/http"
	"slices"
	"time"

	"dravit/internal/cause"
)

// Failure is one way in which a page fails, with how often it did.
type Failure struct {
	Site   string `json:"site"`
	Method string `json:"method"`
	Path   string `json:"path"`
	Status int    `json:"status"` // of the last one; 0: the client got no whole answer
	Server string `json:"server"` // the parts that answered
	App    string `json:"app,omitempty"`
	Plain  bool   `json:"plain,omitempty"` // of the last one; see Request

	Count int       `json:"count"`
	First time.Time `json:"first"`
	Last  time.Time `json:"last"`

	Cause cause.ID `json:"cause"`
	What  string   `json:"what"`            // in a sentence
	Place string   `json:"place,omitempty"` // FILE:LINE of the project's own code
	// Said is what the parts wrote to their logs during the last one, by part: at most maxSaid bytes of each.
	Said map[string]string `json:"said,omitempty"`
	// Before: it failed before the last start, and nobody has asked since: only asking again tells whether it still
	// does.
	Before bool `json:"before,omitempty"`
	// Mended is when the same page was answered well afterwards, or zero.
	Mended time.Time `json:"mended,omitzero"`
}

// Of reports whether a request is one of those that failed so.
func (f Failure) Of(r Request) bool {
	return r.Site == f.Site && r.Method == f.Method && r.Path == f.Path && !r.At.Before(f.First) && !r.At.After(f.Last)
}

// Recent is how long a failed page is news.
const Recent = 10 * time.Minute

// Open returns the failures that are news and were not mended, the last one first, without those from before the last
// start.
func Open(all []Failure, now time.Time) []Failure {
	return slices.DeleteFunc(Asked(all, now), func(f Failure) bool { return f.Before })
}

// Asked returns the failures that are news and were not mended, the last one first.
func Asked(all []Failure, now time.Time) []Failure {
	var out []Failure
	for _, f := range all {
		if f.Mended.IsZero() && now.Sub(f.Last) < Recent {
			out = append(out, f)
		}
	}
	slices.SortStableFunc(out, func(a, b Failure) int { return b.Last.Compare(a.Last) })
	return out
}

// WithoutWords returns failures without what the parts wrote, for a list.
func WithoutWords(all []Failure) []Failure {
	out := slices.Clone(all)
	for i := range out {
		out[i].Said = nil
	}
	return out
}

// MaxSaid bounds how much of what a part wrote is kept of a failure, in bytes: the end counts.
const MaxSaid = 16 << 10

// maxFailures bounds how many ways of failing are kept of a stack; the oldest goes first.
const maxFailures = 100

// AtStart returns what is kept of failures when the stack starts again: what anybody can ask for again.
func AtStart(all []Failure, now time.Time) []Failure {
	kept := slices.DeleteFunc(Asked(all, now), func(f Failure) bool { return !f.Plain || f.Method != http.MethodGet })
	for i := range kept {
		kept[i].Before = true
	}
	slices.Reverse(kept)
	return kept
}

// Same reports whether two failures are of the same page, for the same cause.
func (f Failure) Same(x Failure) bool {
	return x.Site == f.Site && x.Method == f.Method && x.Path == f.Path && x.Cause == f.Cause && x.What == f.What
}

// Book keeps the failures of a stack. It is used by one goroutine at a time.
type Book struct{ all []Failure }

// NewBook returns a book with the failures of an earlier one.
func NewBook(all []Failure) Book { return Book{slices.Clone(all)} }

// All returns the failures, in the order in which they were seen first.
func (b *Book) All() []Failure { return slices.Clone(b.all) }

// Failing returns the failures that were not mended.
func (b *Book) Failing() []Failure {
	var out []Failure
	for _, f := range b.all {
		if f.Mended.IsZero() {
			out = append(out, f)
		}
	}
	return out
}

// Fails notes a failed request, or several of the same kind. One that a diagnosis asked for counts for nothing (Count
// 0): it confirms what is known.
func (b *Book) Fails(f Failure) {
	i := slices.IndexFunc(b.all, f.Same)
	if f.Count == 0 {
		if i >= 0 && b.all[i].Mended.IsZero() {
			b.all[i].Before, b.all[i].Said, b.all[i].Status = false, f.Said, f.Status
		}
		return
	}
	if i < 0 {
		if len(b.all) >= maxFailures {
			oldest := slices.MinFunc(b.all, func(x, y Failure) int { return x.Last.Compare(y.Last) })
			b.all = slices.DeleteFunc(b.all, func(x Failure) bool { return x.Last.Equal(oldest.Last) })
		}
		b.all = append(b.all, f)
		return
	}
	was := &b.all[i]
	if was.Mended.IsZero() {
		f.Count, f.First = f.Count+was.Count, was.First
	}
	*was = f
}

// Works notes that a page was answered well: what failed there before is mended. What failed with a query or a cookie
// is so only if this request had some, too: the same may fail still.
func (b *Book) Works(r Request) {
	for i := range b.all {
		f := &b.all[i]
		if f.Site == r.Site && f.Method == r.Method && f.Path == r.Path && f.Mended.IsZero() && r.At.After(f.Last) &&
			(f.Plain || !r.Plain) {
			f.Mended = r.At
		}
	}
}
