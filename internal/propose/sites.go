package propose

import (
	"path"
	"slices"
	"strings"

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
		if p.shape.Kind == "php" {
			root, from := d.root(p)
			t.add("root", root, Likely, from)
			if path.Ext(p.entry) == ".php" && path.Dir(p.entry) == root && path.Base(p.entry) != "index.php" {
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
	all := roots
	if p.shape.Root != "" {
		all = append([]string{p.shape.Root}, roots...)
	}
	for _, root := range all {
		full := path.Join(p.folder, root)
		if index := path.Join(full, "index.php"); d.has(index) {
			if full != "." && d.has("index.php") {
				d.note("index.php at the top is not in the document root: it may be an old layout or a notice")
			}
			return full, Evidence{index, 0, "is there"}
		}
	}
	if p.shape.Root != "" {
		return path.Join(p.folder, p.shape.Root), Evidence{Says: "usual for " + p.shape.Name}
	}
	return p.folder, Evidence{Says: "there is no index.php in the usual places"}
}

// several writes the sites of a folder that holds a site in each of its folders.
func (d *draft) several() bool {
	sites, php := 0, false
	var first Evidence
	for _, folder := range d.folders {
		if strings.Contains(folder, "/") || strings.HasPrefix(folder, ".") {
			continue
		}
		if index := d.index(folder); index != "" {
			sites++
			php = php || path.Base(index) == "index.php"
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
	if php {
		t := d.table("part.app")
		t.add("kind", "php", Certain, first)
		d.writeExtensions(t)
	}
	t := d.append("site")
	t.add("each", "*", Likely, first)
	if php {
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
