package ui

import (
	"fmt"
	"strings"

	"dravit/internal/stack"
	"dravit/internal/supply"
)

// FetchQuestion asks whether to fetch what offers name.
func FetchQuestion(offers []supply.Offer) string {
	var all []string
	for _, o := range offers {
		all = append(all, describe(o))
	}
	return "Fetch " + strings.Join(all, " and ") + "?"
}

func describe(o supply.Offer) string {
	size := ""
	if o.Bytes > 0 {
		size = bytesText(o.Bytes) + " "
	}
	return o.Kind + " " + o.Version + " (" + size + "from " + printable(o.Source) + ")"
}

// Offer shows what would be fetched.
func (u *UI) Offer(o supply.Offer) {
	u.say(u.bold(o.Kind+" "+o.Version) + "  " + printable(o.Package+" "+o.Release))
	size := "size unknown"
	if o.Bytes > 0 {
		size = bytesText(o.Bytes) + " to fetch"
	}
	u.say(u.dim(size + " from " + printable(o.Source)))
	u.say(u.dim("next: dravit supply " + o.Kind + " " + o.Version))
}

// Supplied shows a tree that was made.
func (u *UI) Supplied(t supply.Tree) {
	u.say(u.bold(t.Kind+" "+t.Version) + "  " + u.paint(green, "supplied") + "  " + bytesText(t.Bytes) + " on the disk")
	u.say(u.dim(t.Program))
	u.say(u.dim(fmt.Sprintf("next: version = %q for a part, dravit start; dravit supply list", t.Version)))
}

// Supplies lists trees.
func (u *UI) Supplies(all []stack.Supplied) {
	u.say(plural(len(all), "supplied program"))
	var rows []row
	var sum int64
	for _, t := range all {
		used := strings.Join(t.Stacks, ", ")
		if used == "" {
			used = "-"
		}
		fetched := t.At.Local().Format("2006-01-02")
		rows = append(rows, row{cells: []string{t.Kind, t.Version, bytesText(t.Bytes), fetched, printable(used)}})
		sum += t.Bytes
	}
	if len(rows) == 0 {
		u.say(u.dim("next: dravit supply node 18"))
		return
	}
	u.table([]string{"kind", "version", "size", "fetched", "used by"}, rows, 2)
	u.say("")
	u.say(u.dim("next: dravit supply discard deletes those that no stack uses; all take " + bytesText(sum)))
}

// Discarded says how much was deleted.
func (u *UI) Discarded(count int, bytes int64) {
	u.say(plural(count, "supplied program") + " discarded, " + bytesText(bytes))
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
