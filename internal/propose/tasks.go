package propose

import (
	"cmp"
	"context"
	"path"
	"slices"
	"strings"

	"dravit/internal/kind"
)

// callers are the programs that a manifest's commands call.
var callers = [][2]string{{"composer.json", "composer"}, {"go.mod", "go"}, {"pom.xml", "mvn"}}

// writeRequires writes the programs that the tasks and commands call.
func (d *draft) writeRequires() {
	needs := func(program string, from ...Evidence) {
		t := d.table("requires")
		if !slices.ContainsFunc(t.Lines, func(l Line) bool { return l.Key == program }) {
			t.add(program, "", Certain, from...)
		}
	}
	for _, p := range d.programs {
		for _, x := range callers {
			full := path.Join(p.folder, x[0])
			installed := x[1] == "composer" && (!needsInstall(p) || d.hasFolder(path.Join(p.folder, "vendor")))
			if d.has(full) && !installed {
				needs(x[1], Evidence{full, 0, "is there"})
			}
		}
		if _, ok := find(p.packages, "nuget:microsoft.net.sdk.web"); ok {
			needs("dotnet", p.told...)
		}
	}
}

// needsInstall reports whether a manifest of Composer's names packages, not only PHP and its extensions.
func needsInstall(p program) bool {
	return slices.ContainsFunc(p.packages, func(x dependency) bool {
		return strings.HasPrefix(x.name, "composer:") && strings.Contains(x.name, "/")
	})
}

// writeTasks writes what has to be done before a program can run.
func (d *draft) writeTasks(p program) {
	folder := func(t *Table) {
		if p.folder != "." {
			t.add("folder", p.folder, Certain)
		}
	}
	task := func(name, command string, changed []string, sure Certainty, from ...Evidence) {
		if len(d.programs) > 1 {
			name = d.partName(&p) + "-" + name
		}
		t := d.append("task")
		t.add("name", name, Certain, from...)
		t.add("part", d.partName(&p), Certain)
		t.add("command", command, sure)
		t.add("when", "first-start", Certain)
		folder(t)
		if len(changed) > 0 {
			t.add("if_changed", changed, Certain)
		}
	}
	if len(p.shape.Copy) == 2 && d.has(path.Join(p.folder, p.shape.Copy[0])) &&
		!d.has(path.Join(p.folder, p.shape.Copy[1])) {
		task("configuration", "cp -n "+p.shape.Copy[0]+" "+p.shape.Copy[1], nil, Likely,
			Evidence{path.Join(p.folder, p.shape.Copy[0]), 0, "has to be copied"})
	}
	if command, from := d.installs(p, false); command != "" {
		task("packages", command, []string{from}, Certain, Evidence{from, 0, "names packages"})
	}
	if d.signs.code(p.shape.Kind).Pages != "" {
		for _, l := range d.signs.languages {
			build := l.Code.Build
			if build[0] == "" || d.script(p.folder, build[0]) == "" {
				continue
			}
			install, _ := d.install(p.folder, l.Code)
			task("assets", install.Command+" && "+build[1], []string{path.Join(p.folder, l.Code.Manifest)}, Likely,
				d.scriptEvidence(p.folder, build[0]))
		}
	}
	if p.shape.Tables != "" {
		task("tables", p.shape.Tables, nil, Likely, Evidence{Says: "usual for " + p.shape.Name})
	}
}

// Commands are the commands that the files of a folder suggest; "": none.
type Commands struct {
	Packages string // installs the packages that are missing
	Tables   string // creates the tables of the database
	Add      string // adds the package that follows to the manifest of the program's language
	Manifest string // that manifest, relative to the project
	// Named are the packages of the program's language that its manifests name, in lower case.
	Named []string
}

// Suggest returns the commands that folders of a project suggest, as a proposal would have them, by folder. Folders are
// relative to dir; each command is for its folder.
func Suggest(ctx context.Context, dir string, folders []string, kinds kind.List) map[string]Commands {
	all := map[string]Commands{}
	t, err := look(ctx, dir, readSigns(kinds))
	if err != nil {
		return all
	}
	for _, folder := range folders {
		all[folder] = t.suggest(folder)
	}
	return all
}

func (t *tree) suggest(folder string) Commands {
	p, _ := t.tell(folder)
	if p.shape.Kind == "" {
		plain, _ := t.plain(folder)
		p.shape.Kind = plain.shape.Kind
	}
	command, _ := t.installs(p, true)
	out := Commands{Packages: command, Tables: p.shape.Tables}
	own := t.signs.code(p.shape.Kind)
	if x, from := t.install(folder, own); from != "" {
		out.Add, out.Manifest = x.Add, path.Join(folder, own.Manifest)
	}
	for _, d := range p.packages {
		if name, ok := strings.CutPrefix(d.name, own.Ecosystem+":"); ok {
			out.Named = append(out.Named, name)
		}
	}
	return out
}

// installs returns the command that installs the packages of a program, and the file that names them; "": there are
// none, or they are there. If packages are known to be missing, an empty manifest counts, too.
func (t *tree) installs(p program, missing bool) (command, from string) {
	own := t.signs.code(p.shape.Kind)
	var all []*kind.Code
	for _, l := range t.signs.languages {
		if l.Code == own {
			all = slices.Insert(all, 0, l.Code)
		} else if own.Pages == "" { // else its packages build assets
			all = append(all, l.Code)
		}
	}
	for _, c := range all {
		names := slices.ContainsFunc(p.packages, func(q dependency) bool {
			return strings.HasPrefix(q.name, c.Ecosystem+":")
		})
		if !missing && (!names || c.Ecosystem == "composer" && !needsInstall(p)) {
			continue
		}
		if x, from := t.install(p.folder, c); x.Command != "" && !t.hasFolder(path.Join(p.folder, x.There)) {
			return x.Command, from
		}
	}
	return "", ""
}

// install returns how the packages of a folder are installed, and the file that names them; none: nothing names any.
func (t *tree) install(folder string, c *kind.Code) (x kind.Installation, from string) {
	for _, x := range c.Install {
		from := path.Join(folder, cmp.Or(x.Lock, c.Manifest))
		if t.has(path.Join(folder, c.Manifest)) && t.has(from) {
			return x, from
		}
	}
	return kind.Installation{}, ""
}
