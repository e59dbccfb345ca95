package webrules

import "strings"

// HostKeys returns the names under which a host may be in a table with wildcards, the closest first: the host itself,
// then *. before each of its parents.
func HostKeys(host string) []string {
	keys := []string{host}
	for {
		_, rest, ok := strings.Cut(host, ".")
		if !ok {
			return keys
		}
		keys, host = append(keys, "*."+rest), rest
	}
}
