package propose

import (
	"context"
	"fmt"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"dravit/internal/kind"
	"dravit/internal/pattern"
	"dravit/internal/project"
	"dravit/internal/shell"
	"dravit/internal/stackfile"
)

// Machine is what the proposal has to know about the machine.
type Machine struct {
	// Extensions are the extensions of PHP that the machine has.
	Extensions []string
	// Exports are the variables without a prefix by which a store of a kind is reached.
	Exports map[string][]string
	// Kinds are the kinds that may be proposed.
	Kinds kind.List
	// Home is the user's home folder.
	Home string
	// Choose asks the user which of several options it should be; the first one is the default. nil: that one counts.
	Choose func(question string, options []string) string
}

// NoProject says why a folder gets no proposal.
type NoProject struct{ Because string }

func (e *NoProject) Error() string { return e.Because }

// Look proposes the stack file of the folder dir, an absolute path without links. The error is a *NoProject if there is
// nothing to propose.
func Look(ctx context.Context, dir string, m Machine) (*Proposal, error) {
	if because := personal(dir, m.Home); because != "" {
		return nil, &NoProject{because}
	}
	t, err := look(ctx, dir, readSigns(m.Kinds))
	if err != nil {
		return nil, err
	}
	if len(t.files) == 0 {
		return nil, &NoProject{"the folder is empty"}
	}
	c, err := t.readAllCode(ctx)
	if err != nil {
		return nil, err
	}
	d := &draft{tree: t, code: c, machine: m, Proposal: &Proposal{Notes: []string{}}}
	d.programs = t.programs()
	if because := d.strangers(); because != "" {
		return nil, &NoProject{because}
	}
	d.write()
	if len(d.Tables) <= 1 {
		return nil, &NoProject{"no program, page or database of a project is in it"}
	}
	return d.Proposal, nil
}

// personal says that a folder is nobody's project, or returns "".
func personal(dir, home string) string {
	switch {
	case dir == home:
		return "it is your home folder"
	case filepath.Dir(dir) == "/" || dir == "/":
		return "it is a folder of the system"
	case filepath.Dir(dir) == "/home" || filepath.Dir(dir) == "/Users":
		return "it is a home folder"
	}
	return ""
}

// draft is a proposal in the making.
type draft struct {
	*tree
	*Proposal
	code     *code
	machine  Machine
	programs []program
	stores   []store
	all      []claim // about stores
	database choice
}

// store is a store of the proposal.
type store struct{ name, kind string }

// manyPrograms is how many programs side by side, with no file beside them, are several projects rather than one.
const manyPrograms = 3

// maxPrograms is how many programs of one folder are proposed.
const maxPrograms = 8

// programs returns the programs of the folder: the folder itself, or those of its folders that have a shape.
func (t *tree) programs() []program {
	if p, ok := t.tell("."); ok {
		pages, ok := t.plain(".")
		if ok && t.signs.code(p.shape.Kind).Build[0] != "" && t.signs.code(pages.shape.Kind).Pages != "" {
			return []program{pages} // the packages are there to build its assets
		}
		return []program{p}
	}
	if p, ok := t.plain("."); ok {
		return []program{p}
	}
	var all []program
	for _, folder := range t.folders {
		name := path.Base(folder)
		other := strings.HasPrefix(name, ".") || slices.Contains(passed, name) || slices.Contains(tested, name)
		inside := slices.ContainsFunc(all, func(p program) bool { return below(folder, p.folder) })
		if strings.Count(folder, "/") > 1 || other || inside {
			continue
		}
		p, ok := t.tell(folder)
		if !ok && len(p.packages) > 0 {
			p, ok = t.plain(folder)
		}
		if ok && len(all) < maxPrograms {
			all = append(all, p)
		}
	}
	return all
}

// plain tells a program without a framework: pages for a web server, or a server of the project's own.
func (t *tree) plain(folder string) (program, bool) {
	p := program{folder: folder, packages: t.dependencies(folder)}
	for _, l := range t.signs.languages {
		p.shape = shape{Name: l.Code.Title, Kind: l.Name}
		if file, inIt := t.page(folder, l.Code); file != "" {
			if inIt {
				p.entry = file
			}
			p.told = []Evidence{{File: file, Says: "is there"}}
			return p, true
		}
		if script, _, ok := t.serves(folder, l.Code); ok && script == l.Code.Scripts[0][0] {
			p.told = []Evidence{t.scriptEvidence(folder, script)}
			return p, true
		}
		if file := t.serverIn(folder, l.Code); file != "" {
			p.shape.Name, p.entry = "a server in "+l.Name, file
			p.told = []Evidence{{File: file, Says: "is there"}}
			return p, true
		}
	}
	p.shape = shape{}
	return p, false
}

// page returns a page of a folder: the index of a document root, or a page in the folder itself (inIt), unless that
// has a program of another kind. "": there is none.
func (t *tree) page(folder string, c *kind.Code) (file string, inIt bool) {
	if c.Pages == "" {
		return "", false
	}
	for _, root := range roots {
		if index := path.Join(folder, root, "index"+c.Pages); t.has(index) {
			return index, false
		}
	}
	built := slices.ContainsFunc(t.signs.languages, func(l *kind.Traits) bool {
		return l.Code.Build[0] != "" && t.has(path.Join(folder, l.Code.Manifest))
	})
	if pages := pagesOf(t.in(folder), c.Pages); len(pages) > 0 && !built {
		return pages[0], true
	}
	return "", false
}

// serverIn returns the entry of a server in a folder, or "".
func (t *tree) serverIn(folder string, c *kind.Code) string {
	for _, name := range c.Entries {
		file := path.Join(folder, name)
		if t.has(file) && (c.Bare || t.has(path.Join(folder, c.Manifest))) {
			return file
		}
	}
	return ""
}

// strangers says that a folder holds several people's projects, or returns "".
func (d *draft) strangers() string {
	if len(d.in(".")) > 0 {
		return ""
	}
	own := 0
	for _, f := range d.folders {
		if path.Base(f) == ".git" && path.Dir(f) != "." {
			own++
		}
	}
	switch {
	case own > 1:
		return "it holds several repositories side by side; propose looks at one of them"
	case len(d.programs) >= manyPrograms && !d.hasFolder(".git"):
		return "it holds several projects side by side; propose looks at one of them"
	}
	return ""
}

// write writes the proposal's tables.
func (d *draft) write() {
	d.table("").add("name", hostName(filepath.Base(d.dir)), Likely, Evidence{Says: "the folder's name"})
	d.writeRequires()
	d.all = d.claims(d.programs, d.code)
	d.decideDatabase()
	for i := range d.programs {
		d.writePart(&d.programs[i])
	}
	d.writeWeb()
	d.writeStores()
	d.writeWorkers()
	for _, p := range d.programs {
		d.writeTasks(p)
	}
	d.writeSites()
	d.writeVariables()
	var names []string
	for _, p := range d.programs {
		names = append(names, p.shape.Name)
	}
	if d.Shape == "" {
		d.Shape = strings.Join(names, " and ")
	}
	slices.Sort(d.faults)
	d.Notes = append(d.Notes, d.faults...)
	if d.cut || d.code.cut {
		d.note("the folder is large: not all of it was read")
	}
}

// hostName makes a name of a stack or a site from any text.
func hostName(text string) string {
	name := strings.Trim(pattern.Of(`[^a-z0-9]+`).ReplaceAllString(strings.ToLower(text), "-"), "-")
	name = strings.TrimRight(name[:min(len(name), 40)], "-")
	if name == "" {
		return "site"
	}
	return name
}

// reserved are the names that the proposal gives to parts itself.
func (d *draft) reserved() []string {
	return append([]string{"app", "web", "site"}, d.signs.parts()...)
}

// partName returns the name of a program's part: app, or after its folder if there are several.
func (d *draft) partName(p *program) string {
	if len(d.programs) == 1 {
		return "app"
	}
	name := hostName(path.Base(p.folder))
	if slices.Contains(d.reserved(), name) || slices.ContainsFunc(d.programs, func(q program) bool {
		return q.folder != p.folder && path.Base(q.folder) == path.Base(p.folder)
	}) {
		name = hostName(p.folder + "-program")
	}
	return name
}

// writePart writes the part of a program.
func (d *draft) writePart(p *program) {
	t := d.table("part." + d.partName(p))
	t.Notes = append(t.Notes, p.shape.Name)
	if p.shape.Note != "" {
		t.Notes = append(t.Notes, p.shape.Note)
	}
	t.Notes = append(t.Notes, d.demands(p)...)
	t.add("kind", p.shape.Kind, Certain, p.told...)
	if d.signs.code(p.shape.Kind).Pages != "" {
		d.writeExtensions(t)
	} else if command, from, sure := d.command(p); command != "" {
		if p.folder != "." {
			command = "cd " + shell.Quote(p.folder) + " && " + command
		}
		t.add("command", command, sure, from...)
	}
	if len(p.shape.Writable) > 0 {
		var all []string
		for _, folder := range p.shape.Writable {
			all = append(all, path.Join(p.folder, folder))
		}
		t.add("writable", all, Likely, Evidence{Says: "usual for " + p.shape.Name})
	}
}

// pagesOf returns the files that are pages with an ending.
func pagesOf(files []string, ending string) []string {
	return slices.DeleteFunc(files, func(f string) bool {
		name := path.Base(f)
		return path.Ext(name) != ending || strings.Contains(name, "config") || strings.Contains(name, ".inc.")
	})
}

// demands says which of the program's own files demand a version of its runtime. A plan reads them again.
func (d *draft) demands(p *program) []string {
	facts := project.Look(d.dir, []stackfile.SiteConfig{{Root: p.folder}}, nil, nil)
	var all []string
	for _, x := range facts.Manifests[p.folder].Demands {
		if x.Program == p.shape.Kind || p.shape.Kind == "custom" {
			all = append(all, fmt.Sprintf("%s demands %s %s, which plan reads there", x.File, x.Program, x.Text))
		}
	}
	return all
}
