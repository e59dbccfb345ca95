package ui

import (
	"fmt"
	"slices"
	"strings"

	"dravit/internal/stack"
	"dravit/internal/trouble"
)

// Removal says what a removal deletes, and what it keeps.
func Removal(name, dir string, k stack.Kept, parts []string, withData bool) string {
	var b strings.Builder
	if len(parts) == 0 {
		fmt.Fprintf(&b, "Of the stack %s (%s), this deletes the configuration and logs, %s and %s.\n", name, dir,
			plural(len(k.Ports), "port"), plural(len(k.Names), "name"))
	}
	for _, d := range k.Data {
		switch {
		case len(parts) > 0 && !slices.Contains(parts, d.Part):
		case withData:
			fmt.Fprintf(
				&b,
				"It deletes the data of part %s: %s, written by %s.\n",
				d.Part,
				bytesText(d.Bytes),
				strings.TrimSpace(d.Kind+" "+d.Version),
			)
		default:
			fmt.Fprintf(&b, "It keeps the data of part %s: %s. --data deletes it, too.\n", d.Part, bytesText(d.Bytes))
		}
	}
	b.WriteString("It does not touch the project's folder.")
	return b.String()
}

// Removed says what was deleted.
func (u *UI) Removed(name string, k stack.Kept, parts []string, withData bool) {
	var bytes int64
	for _, d := range k.Data {
		if withData && (len(parts) == 0 || slices.Contains(parts, d.Part)) {
			bytes += d.Bytes
		}
	}
	what := "removed " + name
	if len(parts) > 0 {
		what = "deleted the data of " + trouble.List(parts) + " of " + name
	}
	if bytes > 0 {
		what += ": " + bytesText(bytes) + " of data deleted"
	}
	u.say(what)
	if len(parts) > 0 || !withData && len(k.Data) > 0 {
		u.Next("dravit start")
	}
}

// bytesText returns a size for people: in MB, or in kB if that is less than one.
func bytesText(n int64) string {
	if n < 1_000_000 {
		return fmt.Sprintf("%d kB", (n+999)/1000)
	}
	return megabytes(n)
}
