package kind

import (
	"regexp"
	"strconv"
	"strings"

	"dravit/internal/cause"
)

// Symptom is a message of a kind's programs, or of an application that they run, which shows that something is wrong,
// with its cause.
type Symptom struct {
	Cause cause.ID
	// Words match the message in a log or on a page; see package pattern.
	Words func() *regexp.Regexp
	// Means says what is wrong and Remedy what to do. Both may contain $1 and so on for the groups of Words, and {part}
	// for the part's name.
	Means, Remedy string
}

// Raise is what a setting of a kind's parts has to become so that a cause is gone.
type Raise struct {
	Settings []string // all get the value
	If       string   // what the cause has to say for this to count; "": it counts always
	Value    string   // "": a number of Times what Number finds in the cause's words, and at least Least
	// Number has one group, of digits: the value as it is, or what was needed. If Bytes, it is in bytes, and the value
	// in megabytes, with the unit M. nil, or found nowhere: the value is Least.
	Number       func() *regexp.Regexp
	Bytes        bool
	Times, Least int
}

// To returns the value for what a cause says.
func (r Raise) To(said string) string {
	if r.Value != "" {
		return r.Value
	}
	n := 0
	if r.Number != nil {
		if m := r.Number().FindStringSubmatch(said); m != nil {
			n, _ = strconv.Atoi(m[1]) // digits
		}
	}
	if r.Bytes {
		return strconv.Itoa(max(r.Least, r.Times*n>>20)) + "M"
	}
	return strconv.Itoa(max(r.Least, r.Times*n))
}

// What the C libraries write for an error number (errno(3)): glibc and macOS' mostly alike, and musl's. They are parts
// of regular expressions.
const (
	AddressInUse  = `(?:Address already in use|Address in use)`
	TooManyFiles  = `(?:[Tt]oo many open files|No file descriptors available)`
	NoSpace       = `(?:[Nn]o space left on device)`
	QuotaExceeded = `(?i:(?:dis[ck] )?quota exceeded)`
	ReadOnly      = `(?i:read-only file system)`
)

// MoreFiles is the remedy for a process that has as many files open as it may. Dravit raises a part's limit to the
// hard one, so that a shell's ulimit changes nothing.
const MoreFiles = "raise your account's hard limit (ulimit -Hn shows it), log in again, stop every stack, then " +
	"dravit start"

// When returns a symptom.
func When(id cause.ID, words func() *regexp.Regexp, means, remedy string) Symptom {
	return Symptom{Cause: id, Words: words, Means: means, Remedy: remedy}
}

// Find searches a text for the last occurrence of a symptom. It returns what the symptom means and what to do, for a
// part of that name, and the offset in the text, which is -1 if the symptom does not occur.
func (s Symptom) Find(text, part string) (means, remedy string, at int) {
	re := s.Words()
	all := re.FindAllStringSubmatchIndex(text, -1)
	if all == nil {
		return "", "", -1
	}
	m := all[len(all)-1]
	expand := func(template string) string {
		out := strings.ReplaceAll(string(re.ExpandString(nil, template, text, m)), "{part}", part)
		return strings.Join(strings.Fields(out), " ")
	}
	return expand(s.Means), expand(s.Remedy), m[0]
}

// Explain returns the cause of a part's failure from the end of its log: the first symptom that occurs. It returns
// empty texts if none does.
func Explain(symptoms []Symptom, log, part string) (because, next string) {
	for _, s := range symptoms {
		if because, next, at := s.Find(log, part); at >= 0 {
			return because, next
		}
	}
	return "", ""
}
