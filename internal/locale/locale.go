// Package locale picks the locale of programs and databases.
package locale

import (
	"context"
	"os/exec"
	"runtime"
	"slices"
	"strings"
	"sync"
	"time"
)

// patience is how long the system may take to list its locales. Then they count as unknown.
const patience = 5 * time.Second

// UTF8 returns the name of a locale that knows the letters of every language and, if the system has one, sorts by code
// points. It returns "C" if the system has none with UTF-8.
var UTF8 = sync.OnceValue(func() string {
	ctx, cancel := context.WithTimeout(context.Background(), patience)
	defer cancel()
	list, err := exec.CommandContext(ctx, "locale", "-a").Output()
	return pick(string(list), err == nil, runtime.GOOS == "darwin")
})

// pick picks from the system's list of locales (locale(1)). Without a list, the system's C library is one that has
// C.UTF-8 and no others (musl).
func pick(list string, listed, mac bool) string {
	wanted := []string{"C.UTF-8", "en_US.UTF-8"}
	if mac {
		slices.Reverse(wanted)
	}
	if !listed {
		return wanted[0]
	}
	plain := func(name string) string { return strings.ToLower(strings.ReplaceAll(name, "-", "")) } // C.utf8
	for _, name := range wanted {
		if slices.ContainsFunc(strings.Fields(list), func(has string) bool { return plain(has) == plain(name) }) {
			return name
		}
	}
	return "C"
}
