// Package shell writes commands in the form in which a user can type them.
package shell

import "strings"

// plain are the characters that have no meaning for a shell, anywhere in a word.
const plain = "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789-_./:=,@%+"

// Quote returns a text as one word of a POSIX shell (XCU 2.2), in quotes if it needs them.
func Quote(s string) string {
	if s != "" && strings.Trim(s, plain) == "" {
		return s
	}
	return "'" + strings.ReplaceAll(s, "'", `'\''`) + "'"
}

// Join returns words as one command.
func Join(words ...string) string {
	quoted := make([]string, len(words))
	for i, w := range words {
		quoted[i] = Quote(w)
	}
	return strings.Join(quoted, " ")
}
