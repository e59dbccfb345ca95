package propose

import (
	"encoding/json"
	"path"
	"strconv"
	"strings"

	"dravit/internal/kind"
	"dravit/internal/pattern"
)

// script returns a script of a folder's package.json, or "".
func (t *tree) script(folder, name string) string {
	var p struct {
		Scripts map[string]string `json:"scripts"`
	}
	_ = json.Unmarshal(t.read(path.Join(folder, "package.json")), &p) // a broken file has no scripts
	return p.Scripts[name]
}

func (t *tree) scriptEvidence(folder, name string) Evidence {
	file := path.Join(folder, "package.json")
	return Evidence{file, lineOf(t.read(file), strconv.Quote(name)+":"), "has the script " + name}
}

// command returns the command that serves a program, with its evidence.
func (d *draft) command(p *program) (string, []Evidence, Certainty) {
	usual := []Evidence{{Says: "usual for " + p.shape.Name}}
	if p.shape.Command != "" {
		text := strings.NewReplacer("{module}", module(p), "{file}", relative(p, p.entry), "{package}", d.goPackage(p)).
			Replace(p.shape.Command)
		sure := Likely
		if !strings.Contains(text, "{port}") {
			sure = d.readsPort(p)
		}
		return text, usual, sure
	}
	c := d.signs.code(p.shape.Kind)
	if script, text, ok := d.serves(p.folder, c); ok {
		return text, []Evidence{d.scriptEvidence(p.folder, script)}, d.readsPort(p)
	}
	entry := p.entry
	if path.Base(entry) == c.Manifest {
		entry = ""
	}
	if entry == "" && c.Manifest != "" {
		entry = d.serverIn(p.folder, c)
	}
	if entry == "" || c.Run == "" {
		return "", nil, Unsure
	}
	return c.Run + " " + relative(p, entry), []Evidence{{entry, 0, "is there"}}, d.readsPort(p)
}

// serves returns the manifest's own command that serves, and how it is run.
func (t *tree) serves(folder string, c *kind.Code) (script, command string, ok bool) {
	for _, s := range c.Scripts {
		if t.script(folder, s[0]) != "" {
			return s[0], s[1], true
		}
	}
	return "", "", false
}

// readsPort says how sure it is that a server listens where it is told: its code reads PORT.
func (d *draft) readsPort(p *program) Certainty {
	if _, reads := d.code.variables["PORT"]; reads || p.shape.Port {
		return Likely
	}
	// a script may start a file whose name does not say that it is code
	if c := d.signs.code(p.shape.Kind); c.ReadsPort != nil && len(c.Scripts) > 0 {
		m := pattern.Of(`\b` + c.Run + `\s+(?:\./)?([\w./-]+)`).FindStringSubmatch(d.script(p.folder, c.Scripts[0][0]))
		if m != nil && c.ReadsPort().Match(d.read(path.Join(p.folder, m[1]))) {
			return Likely
		}
	}
	d.note("make the server listen on 127.0.0.1 and the port in PORT: its code does not read that variable")
	return Unsure
}

func relative(p *program, file string) string {
	return strings.TrimPrefix(strings.TrimPrefix(file, p.folder), "/")
}

// module returns the name of the Python module of a program's entry: app.main for app/main.py.
func module(p *program) string {
	name := strings.TrimSuffix(strings.TrimSuffix(relative(p, p.entry), ".py"), "/__init__")
	return strings.ReplaceAll(name, "/", ".")
}

// goPackage returns the package of a Go program: the folder's own, or the only one in cmd.
func (d *draft) goPackage(p *program) string {
	if d.has(path.Join(p.folder, "main.go")) {
		return "."
	}
	for _, f := range d.folders {
		if path.Dir(f) == path.Join(p.folder, "cmd") {
			return "./" + relative(p, f)
		}
	}
	return "."
}
