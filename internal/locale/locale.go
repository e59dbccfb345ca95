// Package locale picks the locale of programs and databases.
package locale

import (
	"context"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"
	"time"
)

// patience is how long the system may take to list its locales. Then they count as unknown.
const patience = 5 * time.Second

// best is the locale of every glibc since 2.35, and of Debian's before that: it sorts by code points.
const best = "C.UTF-8"

// glibc is where glibc looks for locales (locale(1), "FILES").
const glibc = "/usr/lib/locale"

// installed reports whether a folder of locales has the best one. It may be elsewhere, too: in an archive.
func installed(locales string) bool {
	return slices.ContainsFunc([]string{"C.utf8", best}, func(name string) bool {
		_, err := os.Stat(filepath.Join(locales, name, "LC_CTYPE"))
		return err == nil
	})
}

// UTF8 returns the name of a locale that knows the letters of every language and, if the system has one, sorts by code
// points. It returns "C" if the system has none with UTF-8.
var UTF8 = sync.OnceValue(func() string {
	if runtime.GOOS == "linux" && installed(glibc) {
		return best
	}
	ctx, cancel := context.WithTimeout(context.Background(), patience)
	defer cancel()
	list, err := exec.CommandContext(ctx, "locale", "-a").Output()
	return pick(string(list), err == nil, runtime.GOOS == "darwin")
})

// pick picks from the system's list of locales (locale(1)). Without a list, the system's C library is one that has
// C.UTF-8 and no others (musl).
func pick(list string, listed, mac bool) string {
	wanted := []string{best, "en_US.UTF-8"}
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
