package setting

import (
	"net/netip"
	"path/filepath"
	"slices"
	"strings"
)

// Rule says who decides about a server's setting.
type Rule int

const (
	Free    Rule = iota // the stack file
	Own                 // Dravit: the setting says where the part's data, sockets, logs or passwords are
	Opens               // the user of this machine: the setting says from where the server may be reached
	Unknown             // the user of this machine: nobody looked at what the setting can do
)

// Others is the name under which rules say what holds for the settings that they do not name. Absent: Free.
const Others = "*"

// RuleOf returns the rule for a setting. Case does not matter in names, nor does - for _.
func RuleOf(rules map[string]Rule, name string) Rule {
	if rule, ok := rules[strings.ReplaceAll(strings.ToLower(name), "-", "_")]; ok {
		return rule
	}
	return rules[Others]
}

// Loopback reports whether a list of addresses or names contains loopback only.
func Loopback(value string) bool {
	words := strings.FieldsFunc(value, func(r rune) bool { return r == ',' || r == ' ' || r == '"' || r == '\'' })
	return len(words) > 0 && !slices.ContainsFunc(words, func(w string) bool {
		addr, err := netip.ParseAddr(strings.TrimPrefix(w, "-"))
		return w != "localhost" && (err != nil || !addr.IsLoopback())
	})
}

// Paths returns the words of a value that are paths out of the project: absolute paths, and those with .. in them.
func Paths(value string) []string {
	var out []string
	for _, w := range strings.FieldsFunc(value, func(r rune) bool { return strings.ContainsRune(" \t,;:='\"", r) }) {
		if strings.HasPrefix(w, "/") && !strings.HasPrefix(w, "//") || strings.HasPrefix(w, "~") ||
			!filepath.IsLocal(w) && strings.Contains(w, "..") {
			out = append(out, w)
		}
	}
	return out
}
