package kind

import "regexp"

// Symptom is something that a kind's programs, or an application that they run, write when something is wrong, and what is behind it.
type Symptom struct {
	// Cause is the word for it in docs/causes.md.
	Cause string
	// Words match the log or the page; see package pattern.
	Words func() *regexp.Regexp
	// Means and Remedy may hold $1 and so on for the groups of Words, {part} for the part's name and {setting file} for the stack file's.
	Means, Remedy string
}

// Symptomatic is a kind that knows what its programs write. What stands first is the likelier cause of what stands after it.
type Symptomatic interface{ Symptoms() []Symptom }

// When makes a symptom.
func When(cause string, words func() *regexp.Regexp, means, remedy string) Symptom {
	return Symptom{Cause: cause, Words: words, Means: means, Remedy: remedy}
}
