package ui

import (
	"fmt"
	"maps"
	"path/filepath"
	"slices"
	"strings"

	"dravit/internal/plan"
	"dravit/internal/shell"
	"dravit/internal/stack"
	"dravit/internal/supply"
	"dravit/internal/trouble"
)

// FetchQuestion asks whether to fetch what offers name.
func FetchQuestion(offers []supply.Offer) string {
	var all []string
	for _, o := range offers {
		all = append(all, describe(o))
	}
	return "Fetch " + strings.Join(all, " and ") + "?"
}

// Fetching says what is fetched.
func Fetching(o supply.Offer) string {
	text := "fetching " + o.Kind + " " + o.Version
	if len(o.Packages) > 0 {
		text += ", " + plural(len(o.Packages), "package")
	}
	return text
}

// InstallQuestion asks whether to run a command that changes the system.
func InstallQuestion(command string) string { return "Run " + command + "?" }

func describe(o supply.Offer) string {
	size := ""
	if o.Bytes > 0 {
		size = bytesText(o.Bytes) + " "
	}
	return o.Kind + " " + o.Version + " (" + size + "from " + printable(o.Source) + ")"
}

// Offer shows what would be fetched.
func (u *UI) Offer(o supply.Offer) {
	what := o.Package + " " + o.Release
	if o.Suite != "" {
		what += " of " + o.Suite + ", " + plural(len(o.Packages), "package")
	}
	u.say(u.bold(o.Kind+" "+o.Version) + "  " + printable(what))
	size := "size unknown"
	if o.Bytes > 0 {
		size = bytesText(o.Bytes) + " to fetch"
	}
	u.say(u.dim(size + " from " + printable(o.Source)))
	next := "next: dravit supply " + o.Kind + " " + o.Version
	if len(o.Extensions) > 0 {
		next += " --extensions " + strings.Join(o.Extensions, ",")
	}
	u.say(u.dim(next))
}

// Supplied shows a tree that was made.
func (u *UI) Supplied(t supply.Tree) {
	u.say(u.bold(t.Kind+" "+t.Version) + "  " + u.paint(green, "supplied") + "  " + bytesText(t.Bytes) + " on the disk")
	u.say(u.dim(t.Program))
	u.say(u.dim(fmt.Sprintf("next: version = %q for a part, dravit start; dravit supply list", t.Version)))
}

// Supplies lists trees. together are the bytes that they take, what they share counted once.
func (u *UI) Supplies(all []stack.Supplied, together int64) {
	u.say(plural(len(all), "supplied program"))
	var rows []row
	for _, t := range all {
		used := trouble.List(t.Stacks)
		if used == "" {
			used = "-"
		}
		fetched := t.At.Local().Format("2006-01-02")
		rows = append(rows, row{cells: []string{t.Kind, t.Version, bytesText(t.Bytes), fetched, printable(used)}})
	}
	if len(rows) == 0 {
		u.say(u.dim("next: dravit supply node 18"))
		return
	}
	u.table([]string{"kind", "version", "size", "fetched", "used by"}, rows, 2)
	u.say("")
	u.say(u.dim("together they take " + bytesText(together)))
	u.say(u.dim("next: dravit supply discard deletes those that no stack uses"))
}

// Discarded says how much was deleted, and what was kept as stacks use it.
func (u *UI) Discarded(count int, bytes int64, kept []string) {
	u.say(plural(count, "supplied program") + " discarded, " + bytesText(bytes))
	if len(kept) > 0 {
		u.say(u.dim("in use: " + printable(strings.Join(kept, "; "))))
	}
}

// Verified shows whether a tree is what was fetched. wrong are the files that are not.
func (u *UI) Verified(t supply.Tree, wrong []string) {
	if len(wrong) == 0 {
		u.say(fmt.Sprintf("%s %s  %s  %s", u.bold(t.Kind), t.Version, u.paint(green, "intact"),
			plural(t.Count, "file")))
		return
	}
	u.say(fmt.Sprintf("%s %s  %s", u.bold(t.Kind), t.Version, u.paint(red, plural(len(wrong), "file")+" changed")))
	for _, name := range wrong[:min(len(wrong), 10)] {
		u.say("  " + printable(name))
	}
	u.say(u.dim("next: dravit supply discard " + t.Kind + " " + t.Version + ", and supply it again"))
}

// Locked shows what a lock names.
func (u *UI) Locked(lock supply.Lock, file string) {
	u.say(u.bold(filepath.Base(file)) + "  " + plural(len(lock.Parts)+len(lock.Tools), "program") + " locked")
	var rows []row
	add := func(name string, l supply.Locked) {
		rows = append(rows, row{cells: []string{name, l.Kind, l.Version, printable(l.Package + " " + l.Release),
			plural(max(1+len(l.With), len(l.Packages)), "package")}})
	}
	for _, name := range slices.Sorted(maps.Keys(lock.Parts)) {
		add(name, lock.Parts[name])
	}
	for _, name := range slices.Sorted(maps.Keys(lock.Tools)) {
		add(plan.OfTool+name, lock.Tools[name])
	}
	u.table([]string{"for", "kind", "version", "from", "exact"}, rows)
	u.say("")
	u.say(u.dim("next: keep it with the project; dravit start --locked runs on just these"))
}

// Exported shows what was written into a folder.
func (u *UI) Exported(x supply.Exported, dir string) {
	var names []string
	for _, t := range x.Trees {
		names = append(names, t.Kind+" "+t.Version)
	}
	what := strings.Join(names, ", ") + "; " + bytesText(x.Bytes)
	u.say(u.bold(dir) + "  " + u.paint(green, "exported") + "  " + what)
	next := "next, on the other machine: dravit supply KIND VERSION --from " + shell.Quote(dir)
	if x.Unsigned {
		next += " --unsigned"
	}
	u.say(u.dim(next))
}
