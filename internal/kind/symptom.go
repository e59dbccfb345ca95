package kind

import (
	"regexp"
	"strings"
)

// Symptom is something that a kind's programs, or an application that they run, write when something is wrong, and what
// is behind it.
type Symptom struct {
	// Cause is the word for it in docs/causes.md.
	Cause string
	// Words match the log or the page; see package pattern.
	Words func() *regexp.Regexp
	// Means and Remedy may hold $1 and so on for the groups of Words and {part} for the part's name.
	Means, Remedy string
}

// When makes a symptom.
func When(cause string, words func() *regexp.Regexp, means, remedy string) Symptom {
	return Symptom{Cause: cause, Words: words, Means: means, Remedy: remedy}
}

// Find looks for the last time that a symptom shows in a text: what it means and what to do, for a part of that name,
// and where in the text it is. at is -1 where it does not show.
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

// Explain finds the cause of a failure of a part in its last words: the first symptom that shows. Empty texts: unknown.
func Explain(symptoms []Symptom, log, part string) (because, next string) {
	for _, s := range symptoms {
		if because, next, at := s.Find(log, part); at >= 0 {
			return because, next
		}
	}
	return "", ""
}
