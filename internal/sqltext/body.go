package sqltext

import "strings"

// body knows whether a statement is in the middle of a body that contains semicolons.
type body struct {
	parentheses int // that are open
	blocks      int // BEGIN and CASE without their END, in a routine of PostgreSQL

	words   int      // that were seen
	first   []string // of them, in upper case
	trigger bool
	last    step // of a trigger
}

// step is how much of "; END" was seen last.
type step int

const (
	elsewhere step = iota
	afterSemicolon
	afterEnd
)

// firstWords is how many words tell what a statement creates: CREATE OR REPLACE TEMP TRIGGER.
const firstWords = 5

// word takes a word.
func (b *body) word(text []byte) {
	if b.words < firstWords {
		b.words++
		b.first = append(b.first, strings.ToUpper(string(text)))
		b.trigger = b.trigger || b.creates("TRIGGER")
		return
	}
	if len(text) > len("BEGIN") {
		b.last = elsewhere
		return
	}
	end := strings.EqualFold(string(text), "END")
	switch {
	case b.trigger && end && b.last == afterSemicolon:
		b.last = afterEnd
		return
	case !b.creates("FUNCTION", "PROCEDURE"):
	case strings.EqualFold(string(text), "BEGIN"), b.blocks > 0 && strings.EqualFold(string(text), "CASE"):
		b.blocks++ // as psql counts (psqlscan.l)
	case end && b.blocks > 0:
		b.blocks--
	}
	b.last = elsewhere
}

// other takes a sign or a quoted text.
func (b *body) other() { b.last = elsewhere }

// creates reports whether the statement creates one of some things.
func (b *body) creates(things ...string) bool {
	if len(b.first) < 2 || b.first[0] != "CREATE" {
		return false
	}
	for _, w := range b.first[1:] {
		for _, thing := range things {
			if w == thing {
				return true
			}
		}
		if w != "OR" && w != "REPLACE" && w != "TEMP" && w != "TEMPORARY" {
			return false
		}
	}
	return false
}

// semicolon takes a semicolon, and reports whether it belongs to a trigger.
func (b *body) semicolon() bool {
	if !b.trigger || b.last == afterEnd {
		return false
	}
	b.last = afterSemicolon
	return true
}
