package diagnose

import (
	"cmp"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"dravit/internal/cause"
	"dravit/internal/kind"
	"dravit/internal/pattern"
	"dravit/internal/stackfile"
	"dravit/internal/trouble"
)

// edits makes the remedies of causes that a key of the stack file removes changes of that file.
func (d *doctor) edits() {
	for i := range d.all {
		c := &d.all[i]
		app, ok := d.partOf(d.appOf(c.Subject))
		if !ok || len(c.Edit) > 0 {
			continue
		}
		settings := "part." + app.Spec.Name + ".settings"
		set := func(key string, value any) {
			c.Edit = append(c.Edit, stackfile.Change{Table: settings, Key: key, Value: value})
		}
		php := app.Spec.Role == kind.RoleRuntime
		switch {
		case c.Cause == cause.MemoryLimit && php:
			set("memory_limit", megabytes(c.What, memoryBytes, 512))
		case c.Cause == cause.TimeLimit && php && strings.Contains(c.What, "max_execution_time"):
			set("max_execution_time", strconv.Itoa(max(120, 4*number(c.What, seconds))))
		case c.Cause == cause.TimeLimit && php:
			set("max_execution_time", "0")
		case c.Cause == cause.UploadLimit && php:
			size := megabytes(strings.Join(c.Evidence, "\n"), postBytes, 256)
			set("post_max_size", size)
			set("upload_max_filesize", size)
		case c.Cause == cause.ConnectionsUsedUp:
			d.usedUp(c)
		case c.Cause == cause.VariableMissing:
			if m := variableName().FindStringSubmatch(c.What); m != nil {
				c.Remedy = "add it to dravit.toml with its value, then dravit start:" +
					trouble.Lines("[env]", m[1]+` = "VALUE"`)
			}
		case c.Cause == cause.FileMissing:
			if path := pathIn(*c); d.f.Lacking[filepath.Dir(path)] {
				c.Cause, c.What = cause.FolderMissing, "the application cannot write to "+path+": its folder is missing"
				d.writable(c, app)
			}
		case c.Cause == cause.FolderMissing || c.Cause == cause.FolderUnwritable:
			d.writable(c, app)
		case c.Cause == cause.MailRefused && !slices.ContainsFunc(d.f.Parts, func(p PartFacts) bool {
			return p.Spec.Kind == "dravit-mail"
		}):
			c.Edit = append(c.Edit, stackfile.Change{Table: "part.mail", Key: "kind", Value: "dravit-mail"})
		case c.Cause == cause.PacketLimit:
			if store, _, ok := d.storeOf(*c); ok && store.Kind == "mariadb" {
				c.Edit = append(c.Edit, stackfile.Change{Table: "part." + store.Name + ".settings",
					Key: "max_allowed_packet", Value: "256M"})
			}
		}
	}
}

var (
	postBytes    = pattern.New(`Content-Length of (\d+) bytes`)
	memoryBytes  = pattern.New(`\((\d+) bytes\)`)
	variableName = pattern.New(`the variable (\w+)`)
	seconds      = pattern.New(`\((\d+) s\)`)
	folderName   = pattern.New(`write to (.+?)(?:: its folder|$)|may not use (.+)$|application uses (.+?), which`)
)

func number(text string, words func() *regexp.Regexp) int {
	m := words().FindStringSubmatch(text)
	if m == nil {
		return 0
	}
	n, _ := strconv.Atoi(m[1]) // digits
	return n
}

// megabytes returns twice of what a text names in bytes, at least least, as PHP writes it.
func megabytes(text string, words func() *regexp.Regexp, least int) string {
	return strconv.Itoa(max(least, 2*number(text, words)>>20)) + "M"
}

// Paths returns the files and folders that some causes are about: whether these folders exist is asked.
func Paths(causes []Cause) []string {
	var all []string
	for _, c := range causes {
		if path := pathIn(c); path != "" {
			all = append(all, filepath.Dir(path))
		}
	}
	return all
}

// pathIn returns the absolute path that a cause is about, or "".
func pathIn(c Cause) string {
	m := folderName().FindStringSubmatch(c.What)
	if m == nil {
		return ""
	}
	path := strings.Trim(cmp.Or(m[1:]...), `"':,; `)
	if !filepath.IsAbs(path) { // PHP resolves it in the folder of the script
		return ""
	}
	return filepath.Clean(path)
}

// writable names the folder that an application cannot write to among those that starts prepare.
func (d *doctor) writable(c *Cause, app PartFacts) {
	folder := own(app.Spec.Project, pathIn(*c))
	if folder == "" {
		return
	}
	said := strings.Join(c.Evidence[:min(1, len(c.Evidence))], "")
	if filepath.Ext(folder) != "" || c.Cause == cause.FolderMissing && !strings.Contains(said, "mkdir") {
		folder = filepath.Dir(folder)
	}
	if folder == "." {
		return
	}
	if slices.Contains(app.Spec.Want.Writable, folder) {
		c.Remedy = "dravit start, which makes the folder " + folder + " again"
		c.Fix = []string{"dravit", "start"}
		return
	}
	c.Edit = append(c.Edit, stackfile.Change{Table: "part." + app.Spec.Name, Key: "writable",
		Value: append(slices.Clone(app.Spec.Want.Writable), folder)})
}

// ownModules tells modules of the project's own from packages that are not installed.
func (d *doctor) ownModules() {
	for i := range d.all {
		c := &d.all[i]
		m := moduleName().FindStringSubmatch(c.What)
		if c.Cause != cause.PackagesMissing || m == nil {
			continue
		}
		first, _, dotted := strings.Cut(m[1], ".")
		if dotted && (slices.Contains(d.f.TopLevel, first) || slices.Contains(d.f.TopLevel, first+".py")) {
			c.Cause = cause.CodeMissing
			c.What = "the module " + m[1] + " of the project's own code does not exist"
			c.Remedy = "correct the import, or add the file " + strings.ReplaceAll(m[1], ".", "/") + ".py"
		}
	}
}

var moduleName = pattern.New(`the package (\S+) is not installed for this interpreter`)
