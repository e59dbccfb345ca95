package propose

import (
	"context"
	"path"
	"slices"
	"strings"
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
	if manifest := path.Join(p.folder, "package.json"); p.shape.Kind == "php" && d.script(p.folder, "build") != "" {
		install := "npm install"
		if d.has(path.Join(p.folder, "package-lock.json")) {
			install = "npm ci"
		}
		task("assets", install+" && npm run build", []string{manifest}, Likely, d.scriptEvidence(p.folder, "build"))
	}
	if p.shape.Tables != "" {
		task("tables", p.shape.Tables, nil, Likely, Evidence{Says: "usual for " + p.shape.Name})
	}
}

// Commands are the commands that the files of a folder suggest; "": none.
type Commands struct {
	Packages string // installs the packages that are missing
	Tables   string // creates the tables of the database
}

// Suggest returns the commands that a folder suggests, as a proposal for it would have them.
func Suggest(ctx context.Context, dir string) Commands {
	t, err := look(ctx, dir, nil)
	if err != nil {
		return Commands{}
	}
	p, _ := t.tell(".")
	command, _ := t.installs(p, true)
	return Commands{command, p.shape.Tables}
}

// installs returns the command that installs the packages of a program, and the file that names them; "": there are
// none, or they are there. If packages are known to be missing, an empty manifest counts, too.
func (t *tree) installs(p program, missing bool) (command, from string) {
	names := func(ecosystem string) bool {
		return slices.ContainsFunc(p.packages, func(q dependency) bool {
			return strings.HasPrefix(q.name, ecosystem+":")
		})
	}
	for _, x := range installers {
		manifest := path.Join(p.folder, x.manifest)
		if !t.has(manifest) || t.hasFolder(path.Join(p.folder, x.there)) ||
			x.ecosystem != "composer" && p.shape.Kind == "php" {
			continue
		}
		if !missing && (!names(x.ecosystem) || x.ecosystem == "composer" && !needsInstall(p)) {
			continue
		}
		from := manifest
		if x.lock != "" {
			from = path.Join(p.folder, x.lock)
		}
		if t.has(from) {
			return x.command, from
		}
	}
	return "", ""
}

// installers install the packages of a manifest, unless their folder is there. The first row that fits counts.
var installers = []struct{ ecosystem, manifest, lock, there, command string }{
	{"composer", "composer.json", "", "vendor", "composer install --no-interaction"},
	{"npm", "package.json", "package-lock.json", "node_modules", "npm ci"},
	{"npm", "package.json", "pnpm-lock.yaml", "node_modules", "pnpm install --frozen-lockfile"},
	{"npm", "package.json", "yarn.lock", "node_modules", "yarn install --frozen-lockfile"},
	{"npm", "package.json", "", "node_modules", "npm install"},
	{
		"python",
		"requirements.txt",
		"",
		".venv",
		"python3 -m venv .venv && .venv/bin/pip install -r requirements.txt",
	},
	{"gem", "Gemfile", "", "vendor/bundle", "bundle install"},
}
