package propose

import (
	"context"
	"path"
	"slices"
	"strings"

	"dravit/internal/dump"
	"dravit/internal/kind"
	"dravit/internal/pattern"
)

// choice is the database that the proposal has; its kind is "" for none.
type choice struct {
	kind string
	from []Evidence
	sure Certainty
	// own: it is a file of the project's own, which needs no part.
	own bool
}

// decideDatabase chooses the database. If the evidence for several is as strong, it asks the user, and names the others
// in any case.
func (d *draft) decideDatabase() {
	strongest, weight, from, also := d.signs.database(d.all)
	sure := map[int]Certainty{ofCode: Certain, ofConfig: Likely, ofShape: Likely}[weight]
	c := choice{kind: strongest, from: from, sure: sure}
	equal := []string{strongest}
	for _, other := range also {
		w, lost := best(d.all, other)
		if w == weight {
			c.sure = Unsure
			equal = append(equal, other)
		}
		d.note("the database may be %s, too: %s", other, lost[0])
	}
	if len(equal) > 1 && d.machine.Choose != nil {
		c.kind, c.sure = d.machine.Choose("Several databases fit. Which one should it be?", equal), Certain
		_, c.from = best(d.all, c.kind)
		c.from = append(c.from[:1:1], Evidence{Says: "your choice"})
	}
	if c.own = d.signs.all.TraitsOf(c.kind).Signs.File && !d.reads(d.signs.all.TraitsOf(c.kind).Signs.Part); c.own {
		d.note("its database (%s) is a file of its own, which needs no part: %s", c.kind, c.from[0])
	}
	d.database = c
}

// reads reports whether the code reads a variable that says where a part is.
func (d *draft) reads(part string) bool {
	for name := range d.code.variables {
		for w := range strings.SplitSeq(name, "_") {
			if d.signs.variables[w] == part {
				return true
			}
		}
	}
	return false
}

// writeStores writes the database, and the other stores in the order of the kinds.
func (d *draft) writeStores() {
	if c := d.database; c.kind != "" && !c.own {
		t := d.store(d.signs.all.TraitsOf(c.kind).Signs.Part, c.kind)
		t.add("kind", c.kind, c.sure, c.from...)
		d.writeSeed(t)
	}
	for _, k := range d.signs.kinds {
		if k.Databases {
			continue
		}
		weight, from := best(d.all, k.Name)
		if d.optional(k) {
			d.note("the code can use %s, too: %s", k.Name, from[0])
			continue
		}
		if weight < ofConfig && (!k.Signs.Light || weight == 0) {
			continue
		}
		sure := Certain
		if weight < ofCode {
			sure = Likely
		}
		var kinds any = k.Name
		if k.Signs.Instead != "" {
			kinds = []string{k.Name, k.Signs.Instead}
		}
		d.store(k.Signs.Part, k.Name).add("kind", kinds, sure, from...)
	}
}

// inMemory are extensions of PHP that keep a cache without a server.
var inMemory = []string{"apcu"}

// optional reports whether a cache is one of several that PHP code knows and no manifest or configuration names.
func (d *draft) optional(k *kind.Traits) bool {
	named := slices.ContainsFunc(d.all, func(c claim) bool {
		return c.kind == k.Name && path.Ext(c.from.File) != ".php" && path.Ext(c.from.File) != ".inc"
	})
	extensions := slices.Clone(inMemory)
	for _, other := range d.signs.kinds {
		if other.Role == kind.RoleCache {
			extensions = append(extensions, other.Signs.Extensions...)
		}
	}
	known := 0
	for _, name := range extensions {
		_, needs := d.code.needs[name]
		_, wishes := d.code.wishes[name]
		if needs || wishes {
			known++
		}
	}
	weight, _ := best(d.all, k.Name)
	return !named && weight > 0 && known > 1 && k.Role == kind.RoleCache
}

// store adds a store, and returns its table.
func (d *draft) store(name, of string) *Table {
	d.stores = append(d.stores, store{name, of})
	return d.table("part." + name)
}

// dumpFolders are where dumps lie.
var dumpFolders = []string{".", "db", "database", "data", "sql", "dump", "dumps", "schema", "install"}

// writeSeed writes the only dump that lies around, or names several.
func (d *draft) writeSeed(t *Table) {
	for _, p := range d.programs {
		if p.shape.Tables != "" {
			return // its own command makes the tables
		}
	}
	var found []string
	for _, file := range d.files {
		if slices.Contains(dumpFolders, path.Dir(file)) &&
			pattern.Of(`\.sql(\.(gz|bz2|xz|zst))?$`).MatchString(file) {
			found = append(found, file)
		}
	}
	switch {
	case len(found) == 1 && (path.Ext(found[0]) != ".sql" || lineOf(d.read(found[0]), "CREATE TABLE") > 0):
		x, err := dump.Open(context.Background(), d.dir, found[0]) // a file, which never waits
		if err != nil {
			return
		}
		defer x.Close()
		if from := x.Kind(); from == "" || from == d.stores[len(d.stores)-1].kind {
			t.add("seed", found[0], Likely, Evidence{found[0], 0, "is a dump"})
		}
	case len(found) > 1:
		t.Notes = append(
			t.Notes,
			"there are several dumps; one can be its seed: "+strings.Join(found[:min(3, len(found))], ", "),
		)
	}
}
