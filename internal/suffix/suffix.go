// Package suffix decides which suffixes host names of this machine may have.
package suffix

import (
	"fmt"
	"slices"
	"strings"

	"golang.org/x/net/publicsuffix"
)

// reserved are suffixes that belong to no one and may be used within a machine: RFC 6761 (localhost, test, example),
// RFC 8375 (home.arpa), and internal, which ICANN reserved for private use in 2024.
var reserved = []string{"localhost", "test", "example", "internal", "home.arpa"}

// others are suffixes that have another meaning, with the document that says so.
var others = map[string]string{
	"local":   "machines ask their local network for it, not a resolver (RFC 6762)",
	"invalid": "programs treat every name below it as one that does not exist (RFC 6761)",
	"onion":   "it names services of the Tor network (RFC 7686)",
	"alt":     "names below it are never looked up (RFC 9476)",
	"arpa":    "the Internet's infrastructure uses it (RFC 3172)",
}

// forced are public suffixes below which browsers use HTTPS only (the browsers' common list of preloaded HSTS).
var forced = []string{"app", "bank", "boo", "channel", "dad", "day", "dev", "eat", "esq", "fly", "foo", "gle", "google",
	"hotmail", "ing", "insurance", "meme", "mov", "new", "nexus", "page", "phd", "play",
	"prof", "rsvp", "search", "skype", "soy", "windows", "youtube", "zip"}

// Reserved reports whether a suffix, or one that it ends with, is reserved for private use.
func Reserved(s string) bool {
	return slices.ContainsFunc(reserved, func(r string) bool { return s == r || strings.HasSuffix(s, "."+r) })
}

// Refuse returns why names of this machine must not have a suffix, or nil if they may.
func Refuse(s string) error {
	last := s[strings.LastIndexByte(s, '.')+1:]
	switch {
	case slices.Contains(reserved, s):
		return nil
	case strings.Trim(last, "0123456789") == "":
		return fmt.Errorf("names cannot end with %q: browsers take them for addresses; use test, which is reserved", s)
	case others[last] != "":
		return fmt.Errorf("names cannot end with %q: %s; use test, which is reserved", s, others[last])
	}
	public, icann := publicsuffix.PublicSuffix(s)
	if !icann || public != s {
		return nil
	}
	also := ""
	if slices.Contains(forced, last) {
		also = ", and browsers open them over HTTPS only"
	}
	return fmt.Errorf("names cannot end with %q: it is a public suffix, whose names belong to other people%s; "+
		"test belongs to nobody", s, also)
}

// Warn returns what the user should know about an allowed suffix, or "".
func Warn(s string) string {
	for _, r := range reserved {
		if s == r || strings.HasSuffix(s, "."+r) {
			return ""
		}
	}
	public, icann := publicsuffix.PublicSuffix(s)
	if !icann {
		return "no standard reserves " + s[strings.LastIndexByte(s, '.')+1:] +
			", which may become a public suffix one day; test never will"
	}
	text := "names below " + s +
		" belong to whoever registered it: on this machine, the real ones cannot be reached while yours are set up"
	if slices.Contains(forced, public) {
		text += "; browsers open them over HTTPS only"
	}
	return text
}
