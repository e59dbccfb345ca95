package diagnose

import (
	"cmp"
	"path/filepath"
	"slices"
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
		app, ok := d.partOf(d.appBehind(*c))
		if !ok || len(c.Edit) > 0 {
			continue
		}
		if d.raise(c, app) {
			continue
		}
		switch {
		case c.Cause == cause.ConnectionsUsedUp:
			d.usedUp(c)
		case c.Cause == cause.VariableMissing:
			if m := variableName().FindStringSubmatch(c.What); m != nil && strings.HasPrefix(c.Remedy, "add it") {
				c.Remedy = "add it to dravit.toml with its value, then dravit start:" +
					trouble.Lines("[env]", m[1]+` = "VALUE"`)
			}
		case c.Cause == cause.ExtensionNotLoaded && app.Traits.ExtensionOf != nil:
			if m := ofExtension().FindStringSubmatch(c.What); m != nil {
				c.Remedy = "dravit extensions on " + app.Traits.ExtensionOf(m[1]) + " --part " + app.Spec.Name
			}
		case c.Cause == cause.FileMissing:
			line := d.f.Lines[c.Place]
			if path := pathIn(*c); d.f.Lacking[filepath.Dir(path)] && (line == "" || writes().MatchString(line)) {
				c.Cause, c.What = cause.FolderMissing, "the application cannot write to "+path+": its folder is missing"
				d.writable(c, app)
			}
		case c.Cause == cause.FolderMissing || c.Cause == cause.FolderUnwritable:
			d.writable(c, app)
		case c.Cause == cause.MailRefused:
			d.catchMail(c, app.Spec)
		}
	}
}

// raise makes the remedy of a cause the settings that its part's kind says, or that of the store which it is about.
func (d *doctor) raise(c *Cause, app PartFacts) bool {
	concerned, raises := app, app.Traits.Raises[c.Cause]
	if raises == nil {
		store, _, ok := d.storeOf(*c)
		if !ok {
			return false
		}
		concerned, _ = d.partOf(store.Name)
		raises = concerned.Traits.Raises[c.Cause]
	}
	said := c.What + "\n" + strings.Join(c.Evidence, "\n")
	for _, r := range raises {
		if !strings.Contains(c.What, r.If) {
			continue
		}
		for _, name := range r.Settings {
			c.Edit = append(c.Edit, stackfile.Change{Table: "part." + concerned.Spec.Name + ".settings", Key: name,
				Value: r.To(said)})
		}
		return true
	}
	return false
}

// catchMail gives a stack that has nothing for mail the catcher that is built in. If it has one, it says from where the
// application has another address.
func (d *doctor) catchMail(c *Cause, app kind.Part) {
	i := slices.IndexFunc(d.f.Parts, func(p PartFacts) bool { return p.Spec.Role == kind.RoleMail })
	if i >= 0 {
		mail, words := d.f.Parts[i].Spec, wantedBy(*c).words(*c)
		c.Evidence = append(c.Evidence, d.has(mail, "port"))
		if !d.override(c, app, mail, words) {
			d.inCode(c, app, mail, words)
		}
		return
	}
	i = slices.IndexFunc(d.f.Kinds, func(k *kind.Traits) bool {
		return k.Role == kind.RoleMail && len(k.Programs) == 0
	})
	if i >= 0 {
		c.Edit = append(c.Edit, stackfile.Change{Table: "part.mail", Key: "kind", Value: d.f.Kinds[i].Name})
	}
}

var (
	// writes matches a line of code that may write a file rather than read one.
	writes = pattern.New(`(?i)write|save|upload|mkdir|append|create|store|export|put|dump|copy|move|rename|log|touch|` +
		`open\(.*["'][wax]`)
	ofExtension  = pattern.New(`(?:the class|calls) (\w+)`)
	variableName = pattern.New(`the variable (\w+)`)
	folderName   = pattern.New(`write to (.+?)(?:: its folder|$)|may not use (.+)$|application uses (.+?), which`)
)

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
	folder := own(app.Spec, pathIn(*c))
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
