package diagnose

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"dravit/internal/about"
	"dravit/internal/cause"
	"dravit/internal/kind"
	"dravit/internal/pattern"
	"dravit/internal/shell"
	"dravit/internal/stackfile"
	"dravit/internal/trouble"
)

// TaskFacts is a task of the stack file with how it ran last.
type TaskFacts struct {
	Name, Part, When string
	Command          string
	Failed           string   // how it failed when it ran last, or ""
	Tail             []string // the end of its output, if it failed: enough for an error with its stack
	LogFile          string
}

// failedTasks adds the tasks of a start that failed: what depends on them was not started.
func (d *doctor) failedTasks() {
	for _, t := range d.f.Tasks {
		if t.Failed == "" || t.When != stackfile.FirstStart && t.When != stackfile.EveryStart {
			continue
		}
		by := d.runs(t)
		by.Said = strings.Join(t.Tail, "\n")
		c := Cause{Cause: cause.TaskFailed, Subject: about.Task(t.Name), Evidence: []string{t.Failed}, rank: seen}
		if x, ok := by.explain(true); ok {
			c.Cause, c.What, c.Remedy, c.Place = x.Cause, x.What, x.Remedy, x.Place
			c.Evidence = append(c.Evidence, x.Evidence...)
		} else if said := last(by.Said, telling); len(said) > 0 {
			c.Evidence = append(c.Evidence, t.LogFile+": "+strings.Join(said, "\n"))
		}
		d.all = append(d.all, c)
	}
}

// telling is how many lines of a task's output are shown if they explain nothing.
const telling = 3

// runs returns the part whose runtime runs a task, or, if the task names none, that of an application.
func (d *doctor) runs(t TaskFacts) Speaker {
	p, ok := d.partOf(t.Part)
	for _, other := range d.f.Parts {
		if !ok && (other.Spec.Role == kind.RoleRuntime || other.Spec.Role == kind.RoleApp) {
			p, ok = other, true
		}
	}
	p.Spec.Log = t.LogFile
	return Speaker{Spec: p.Spec, Traits: p.Traits}
}

// tasksFailed makes what explains the failure of a task, and what removes that, a cause of its own: that the task
// failed.
func (d *doctor) tasksFailed() {
	for i := range d.all {
		c := &d.all[i]
		name, ok := c.Subject.TaskName()
		if !ok {
			continue
		}
		failed := "the task " + name + " failed, so nothing was started after it"
		if c.Cause == cause.TaskFailed {
			c.What = failed
			c.Remedy = "its output says what is wrong; dravit task " + name + " runs it alone, and dravit start goes on"
			continue
		}
		c.Cause, c.What = cause.TaskFailed, failed+": "+strings.TrimPrefix(c.What, ownCode)
		if len(c.Edit) == 0 && !strings.Contains(c.Remedy, "dravit start") {
			c.Remedy += ", then dravit start"
		}
	}
}

// failedSeeds adds the seeds that were not loaded: what comes after them was not started.
func (d *doctor) failedSeeds() {
	for _, p := range d.f.Parts {
		how, failed := d.f.Seeds[p.Spec.Name]
		if !failed || d.f.Stopped {
			continue
		}
		file := p.Spec.Want.Seed
		remedy := "mend " + file + " there, then dravit start, which loads it again"
		if m := supplies().FindString(how); m != "" {
			remedy = m
		}
		d.add(seen, cause.SeedFailed, about.Part(p.Spec.Name).At("seed"), "the seed of part "+p.Spec.Name+
			" was not loaded, so its database is empty, and nothing was started after it", remedy, how)
	}
}

// supplies matches what a load says to do about a dump of a newer server.
var supplies = pattern.New(`dravit supply [^()]+`)

// remediedByTask are the causes that a task of the project usually removes, with what such a task is called.
var remediedByTask = map[cause.ID]string{cause.TablesMissing: "tables", cause.TablesOutdated: "tables",
	cause.PackagesMissing: "packages"}

// What the commands of tasks say of what they do.
var (
	installs = pattern.New(`(?i)\b(?:install|ci|bundle|sync|restore|require|composer|poetry|pip3?|yarn|pnpm)\b`)
	migrates = pattern.New(`(?i)migrat|schema|seed|\bdb[:_-]|upgrade|alembic|flyway|liquibase|prisma|sequelize|knex|` +
		`doctrine|syncdb|tables?|\.sql\b|database|phinx|diesel`)
)

// does reports whether a task does what a cause lacks, as far as its name and its command tell.
func (t TaskFacts) does(what string) bool {
	text := t.Name + " " + t.Command
	if what == "packages" {
		return installs().MatchString(text) && !migrates().MatchString(text)
	}
	return migrates().MatchString(text)
}

// taskRemedies names, for causes that a task removes, the task of the stack file that does so, or a file of the project
// that holds the missing table. If there is none, it names the command that the project's own files suggest, as a task
// to add.
func (d *doctor) taskRemedies() {
	for i := range d.all {
		c := &d.all[i]
		name, ok := remediedByTask[c.Cause]
		if !ok {
			continue
		}
		part := d.appBehind(*c)
		own := d.f.Suggested[part]
		missing := d.unnamed(*c, part)
		if missing != "" && own.Add != "" {
			c.Remedy = d.inFolder(part, "dravit run --part "+part+" -- "+own.Add+" "+missing)
			c.Evidence = append(c.Evidence, "the project's manifest does not name "+missing)
			continue
		}
		var names []string
		for _, t := range d.f.Tasks {
			if (t.Part == part || t.Part == "") && t.does(name) && t.When != stackfile.BeforeStop &&
				c.Subject != about.Task(t.Name) {
				names = append(names, t.Name)
			}
		}
		if len(names) == 0 && c.Cause == cause.TablesMissing {
			names = d.others(part)
		}
		command := map[string]string{"packages": own.Packages, "tables": own.Tables}[name]
		suggested := command != ""
		file := d.f.Dumps[tableIn(c.What)]
		switch {
		case len(names) == 1:
			c.Remedy = "dravit task " + names[0]
		case len(names) > 1:
			c.Remedy = "run the task that does it: dravit task " + strings.Join(names, ", or dravit task ")
		case c.Cause == cause.TablesMissing && file != "":
			c.Remedy = "dravit db load " + file + ", which holds the table"
		case suggested && c.Cause != cause.TablesOutdated:
			lines := []string{"[[task]]", fmt.Sprintf("name = %q", name), fmt.Sprintf("part = %q", part),
				fmt.Sprintf("command = %q", command), `when = "first-start"`}
			if folder := d.folderOf(part); folder != "." {
				lines = append(lines, fmt.Sprintf("folder = %q", folder))
			}
			c.Remedy = "add this to dravit.toml, then dravit start:" + trouble.Lines(lines...)
		case suggested:
			c.Remedy = d.inFolder(part, "dravit run --part "+part+" -- "+command)
		}
		if missing != "" && own.Manifest != "" {
			c.Evidence = append(c.Evidence, own.Manifest+" does not name "+missing)
			c.Remedy = "add the line " + missing + " to " + own.Manifest + "; " + c.Remedy
		}
	}
}

// folderOf returns the folder in which a part works, relative to the project.
func (d *doctor) folderOf(part string) string {
	p, ok := d.partOf(part)
	if !ok {
		return "."
	}
	return p.Spec.Want.Folder()
}

// inFolder returns a command that is run in the folder in which a part works.
func (d *doctor) inFolder(part, command string) string {
	if folder := d.folderOf(part); folder != "." {
		return "cd " + shell.Quote(folder) + " && " + command
	}
	return command
}

// uninstalled makes a command that does not exist a matter of packages where those of its folder are not installed:
// package managers install programs, too.
func (d *doctor) uninstalled() {
	for i := range d.all {
		c := &d.all[i]
		if c.Cause == cause.CommandMissing && d.f.Suggested[d.appBehind(*c)].Packages != "" {
			c.Cause = cause.PackagesMissing
			c.What += ", and the project's packages are not installed"
		}
	}
}

// unnamed returns the package that is missing and that the project's manifest does not name, so that installing what it
// names does not help; "" if it names it, or nothing is known of it.
func (d *doctor) unnamed(c Cause, part string) string {
	m := notInstalled().FindStringSubmatch(c.What)
	p, _ := d.partOf(part)
	own := d.f.Suggested[part]
	if m == nil || own.Manifest == "" || p.Traits.Code == nil || p.Traits.Code.PackageOf == nil {
		return ""
	}
	name := p.Traits.Code.PackageOf(m[1])
	first, _, _ := strings.Cut(strings.ToLower(m[1]), "/") // boats/low is of the gem boats, as a rule
	if slices.Contains(own.Named, name) || slices.Contains(own.Named, first) {
		return ""
	}
	return name
}

var notInstalled = pattern.New(`^the (?:module|package|library) (\S+) is not installed`)

// others returns the task of a first start that says nothing of what it does, if there is only one.
func (d *doctor) others(part string) (names []string) {
	for _, t := range d.f.Tasks {
		if (t.Part == part || t.Part == "") && t.When == stackfile.FirstStart && !t.does("packages") {
			names = append(names, t.Name)
		}
	}
	if len(names) > 1 {
		return nil
	}
	return names
}

// tableIn returns the name of the table that a message says is missing, or "".
func tableIn(text string) string {
	m := missingTable().FindStringSubmatch(text)
	if m == nil {
		return ""
	}
	name := cmp.Or(m[1:]...)
	return name[strings.LastIndexByte(name, '.')+1:]
}

var missingTable = pattern.New(`Table '([^']+)' doesn't exist|relation "([^"]+)" does not exist|` +
	`no such table: ([\w.]+)`)

// Tables returns the names of the tables that some causes say are missing.
func Tables(causes []Cause) []string {
	var all []string
	for _, c := range causes {
		if name := tableIn(c.What); name != "" && c.Cause == cause.TablesMissing {
			all = append(all, name)
		}
	}
	return all
}

// appBehind returns the part that runs the code which a cause is about, or "".
func (d *doctor) appBehind(c Cause) string {
	if c.by != "" {
		return c.by
	}
	return d.appOf(c.Subject)
}

// appOf returns the part that runs the code of a subject: of a site its app, of a part the part, of a task the part
// whose runtime it uses, else "".
func (d *doctor) appOf(subject about.Subject) string {
	if name, ok := subject.TaskName(); ok {
		if i := slices.IndexFunc(d.f.Tasks, func(t TaskFacts) bool { return t.Name == name }); i >= 0 {
			return d.runs(d.f.Tasks[i]).Spec.Name
		}
	}
	name, ok := subject.SiteName()
	if !ok {
		name, _ = subject.PartName()
		return name
	}
	i := slices.IndexFunc(d.f.Sites, func(s SiteFacts) bool { return s.Spec.Name == name })
	if i < 0 {
		return ""
	}
	return d.f.Sites[i].Spec.App
}
