package stackfile

import (
	"fmt"
	"strconv"
	"strings"
)

func article(noun string) string {
	if strings.ContainsRune("aeiou", rune(noun[0])) {
		return "an " + noun
	}
	return "a " + noun
}

func sortOf(v any) string {
	switch v := v.(type) {
	case string:
		return strconv.Quote(v)
	case int64, float64, bool:
		return fmt.Sprint(v)
	case []any:
		if tables(v) && len(v) > 0 {
			return "a list of tables"
		}
		return "a list"
	case map[string]any:
		return "a table"
	}
	return "a date"
}

// nearest returns a hint with the known word that was probably meant, or "".
func nearest(word string, known []string) string {
	best, least := "", 3
	if len(word) <= 3 {
		least = 2
	}
	for _, k := range known {
		if d := distance(strings.ToLower(word), k); d < least {
			best, least = k, d
		}
	}
	if best == "" {
		return ""
	}
	return fmt.Sprintf("did you mean %q?", best)
}

// distance counts the insertions, deletions, replacements and swaps of neighbours between two words
// (Damerau-Levenshtein).
func distance(a, b string) int {
	prev2, prev := []int{}, make([]int, len(b)+1)
	for j := range prev {
		prev[j] = j
	}
	for i := range a {
		row := make([]int, len(b)+1)
		row[0] = i + 1
		for j := range b {
			cost := 1
			if a[i] == b[j] {
				cost = 0
			}
			row[j+1] = min(prev[j+1]+1, row[j]+1, prev[j]+cost)
			if i > 0 && j > 0 && a[i] == b[j-1] && a[i-1] == b[j] {
				row[j+1] = min(row[j+1], prev2[j-1]+1)
			}
		}
		prev2, prev = prev, row
	}
	return prev[len(b)]
}
