package propose

import (
	"path"
	"slices"
	"strings"

	"dravit/internal/kind"
	"dravit/internal/project"
)

// roots are the folders that may be a document root, most likely first.
var roots = append(slices.Clone(project.Roots), "www", "html", "docroot", "src/public")

// writeSites writes a site for each program that has pages, or for the folder's own files.
func (d *draft) writeSites() {
	for i := range d.programs {
		p := &d.programs[i]
		t := d.append("site")
		name := hostName(path.Base(d.dir))
		if len(d.programs) > 1 {
			name = d.partName(p) + "." + name
		}
		t.add("name", name, Likely)
		t.add("app", d.partName(p), Certain)
		if ending := d.signs.code(p.shape.Kind).Pages; ending != "" {
			root, from := d.root(p)
			t.add("root", root, Likely, from)
			if path.Ext(p.entry) == ending && path.Dir(p.entry) == root && path.Base(p.entry) != "index"+ending {
				page := "/" + path.Base(p.entry)
				t.add("expect", map[string]string{"path": page}, Likely,
					Evidence{p.entry, 0, "is there, and no index.php"})
			}
		}
	}
	if len(d.programs) > 0 {
		return
	}
	if d.several() {
		return
	}
	for _, root := range append(slices.Clone(roots), "dist", "build", "docs", "_site") {
		if index := path.Join(root, "index.html"); d.has(index) || d.read(index) != nil { // dist is passed over
			d.Shape = "plain files"
			t := d.append("site")
			t.add("name", hostName(path.Base(d.dir)), Likely)
			t.add("root", root, Likely, Evidence{index, 0, "is there"})
			return
		}
	}
}

// root returns the document root of a program.
func (d *draft) root(p *program) (string, Evidence) {
	all, home := roots, "index"+d.signs.code(p.shape.Kind).Pages
	if p.shape.Root != "" {
		all = append([]string{p.shape.Root}, roots...)
	}
	for _, root := range all {
		full := path.Join(p.folder, root)
		if index := path.Join(full, home); d.has(index) {
			if full != "." && d.has(home) {
				d.note("%s at the top is not in the document root: it may be an old layout or a notice", home)
			}
			return full, Evidence{index, 0, "is there"}
		}
	}
	if p.shape.Root != "" {
		return path.Join(p.folder, p.shape.Root), Evidence{Says: "usual for " + p.shape.Name}
	}
	return p.folder, Evidence{Says: "there is no " + home + " in the usual places"}
}

// several writes the sites of a folder that holds a site in each of its folders.
func (d *draft) several() bool {
	sites := 0
	var runtime *kind.Traits
	var first Evidence
	for _, folder := range d.folders {
		if strings.Contains(folder, "/") || strings.HasPrefix(folder, ".") {
			continue
		}
		if index := d.index(folder); index != "" {
			sites++
			if l, ok := d.signs.languageOf(path.Ext(index)); ok {
				runtime = l
			}
			first = Evidence{index, 0, "is there"}
		}
	}
	pages := slices.ContainsFunc(d.in("."), func(f string) bool {
		return path.Ext(f) == ".php" || path.Ext(f) == ".html"
	})
	if sites < 2 || pages {
		return false
	}
	d.Shape = "several sites"
	if runtime != nil {
		t := d.table("part.app")
		t.add("kind", runtime.Name, Certain, first)
		d.writeExtensions(t)
	}
	t := d.append("site")
	t.add("each", "*", Likely, first)
	if runtime != nil {
		t.add("app", "app", Certain)
	}
	return true
}

// index returns the index file of a folder that is a site, or "".
func (t *tree) index(folder string) string {
	for _, root := range project.Roots {
		for _, name := range project.Indexes {
			if file := path.Join(folder, root, name); t.has(file) {
				return file
			}
		}
	}
	return ""
}
