package ui

import (
	"cmp"
	"fmt"
	"strings"
	"time"

	"github.com/charmbracelet/x/ansi"

	"dravit/internal/data"
	"dravit/internal/databases"
	"dravit/internal/kind"
)

// Meter shows how far long work on bytes is, in a line that it repaints. Without a terminal it shows nothing.
type Meter struct {
	u     *UI
	what  string
	began time.Time
	shown bool
	quiet bool
}

// Meter begins to show work. Nothing is shown if quiet. End must be called.
func (u *UI) Meter(what string, quiet bool) *Meter {
	return &Meter{u: u, what: what, began: time.Now(), quiet: quiet || !u.live}
}

// barWidth is the width of a meter's bar, in columns.
const barWidth = 24

// Show shows that done of size bytes are done. size is 0 if it is unknown.
func (m *Meter) Show(done, size int64) {
	if m.quiet {
		return
	}
	took := time.Since(m.began)
	text := fmt.Sprintf("%7s  %s  %s", duration(took), m.what, bytesText(done))
	if size > 0 {
		done = min(done, size)
		full := int(barWidth * done / size)
		text = fmt.Sprintf("%7s  %s  %s%s  %3d %% of %s", duration(took), m.what, strings.Repeat("━", full),
			strings.Repeat("╌", barWidth-full), 100*done/size, bytesText(size))
		if done > 0 && took > time.Second {
			text += "  " + duration(time.Duration(float64(took)*float64(size-done)/float64(done))) + " left"
		}
	}
	fmt.Fprint(m.u.Err, eraseLine()+m.u.dim(text))
	m.shown = true
}

// End removes the line.
func (m *Meter) End() {
	if m.shown {
		fmt.Fprint(m.u.Err, eraseLine())
	}
}

// Loaded writes what a load did.
func (u *UI) Loaded(name string, l databases.Loaded) {
	u.say(
		u.bold(
			name,
		) + "  " + u.paint(
			green,
			"loaded",
		) + "  " + fmt.Sprintf(
			"%s into %s in %s",
			bytesText(l.Bytes),
			l.Part,
			duration(l.Took),
		),
	)
	if len(l.Left) > 0 {
		u.say(u.dim("left out, as the application's user has the database to itself:"))
		for _, thing := range l.Left {
			u.say(u.dim("  " + printable(thing)))
		}
	}
	next := "dravit db tables"
	if l.Mark != "" {
		next += "; dravit db rewind " + l.Mark + " takes it back"
	}
	u.say(u.dim("next: " + next))
}

// Dumped writes where a dump is.
func (u *UI) Dumped(file string, size int64, took time.Duration) {
	u.say(fmt.Sprintf("%s  %s in %s", u.bold(printable(file)), bytesText(size), duration(took)))
}

// Marked writes a new mark.
func (u *UI) Marked(m data.Mark, left []string) {
	u.say(
		fmt.Sprintf("%s  %s  %s on the disk", u.bold(printable(m.Name)), u.paint(green, "marked"), bytesText(m.Bytes)),
	)
	u.held(m)
	for _, what := range left {
		u.say(u.dim("left out: " + printable(what)))
	}
	u.say(u.dim("next: dravit db rewind" + allOf(m) + " goes back to it"))
}

// held writes what a mark of a whole stack holds.
func (u *UI) held(m data.Mark) {
	if len(m.Parts) > 0 {
		u.say(u.dim("holds: " + printable(strings.Join(holds(m), ", "))))
	}
}

func holds(m data.Mark) []string {
	var all []string
	for _, p := range m.Parts {
		all = append(all, p.Name)
	}
	for _, name := range m.Folders {
		all = append(all, strings.TrimSuffix(name, "/")+"/")
	}
	return all
}

// allOf returns the option that a command needs for the mark, with a space before it, or "".
func allOf(m data.Mark) string {
	if len(m.Parts) > 0 {
		return " --all"
	}
	return ""
}

// Rewound writes what a rewind did. left is what it left as it was.
func (u *UI) Rewound(m data.Mark, left []string, forget bool) {
	u.say(fmt.Sprintf("%s  %s to %s", u.bold(printable(m.Name)), u.paint(green, "rewound"), clock(m.At)))
	u.held(m)
	for _, what := range left {
		u.say(u.dim("left as it was: " + printable(what)))
	}
	if !forget {
		u.say(u.dim("next: dravit db rewind before-rewind" + allOf(m) + " goes back to what was before"))
	}
}

func clock(at time.Time) string { return at.Local().Format("2006-01-02 15:04:05") }

// Marks writes the marks of a database, or of the whole stack if part is "".
func (u *UI) Marks(name, part string, marks []data.Mark) {
	what, all := "written by", ""
	if part == "" {
		what, all = "holds", " --all"
	}
	u.say(u.bold(cmp.Or(part, name)) + "  " + plural(len(marks), "mark"))
	var rows []row
	var sum int64
	for _, m := range marks {
		by := "you"
		if m.Before != "" {
			by = u.dim("before a " + m.Before)
		}
		of := strings.TrimSpace(m.Kind + " " + m.Version)
		if part == "" {
			of = printable(strings.Join(holds(m), ", "))
		}
		rows = append(
			rows,
			row{cells: []string{printable(m.Name), clock(m.At), age(time.Since(m.At)), bytesText(m.Bytes), of, by}},
		)
		sum += m.Bytes
	}
	if len(rows) == 0 {
		u.say(u.dim("next: dravit db mark" + all + " makes one"))
		return
	}
	u.table([]string{"mark", "made", "age", "size", what, "made by"}, rows, 2, 3)
	u.say("")
	u.say(u.dim("next: dravit db rewind" + all + " NAME; dravit db marks" + all + " --delete NAME; they take " +
		bytesText(sum) + " at most"))
}

// age returns a time span in its largest unit.
func age(d time.Duration) string {
	switch {
	case d < time.Minute:
		return fmt.Sprintf("%d s", int(d.Seconds()))
	case d < time.Hour:
		return fmt.Sprintf("%d min", int(d.Minutes()))
	case d < 48*time.Hour:
		return fmt.Sprintf("%d h", int(d.Hours()))
	}
	return fmt.Sprintf("%d days", int(d.Hours()/24))
}

// Tables writes the tables of a database.
func (u *UI) Tables(part string, tables []kind.Table) {
	u.say(u.bold(part) + "  " + plural(len(tables), "table"))
	var rows []row
	for _, t := range tables {
		count, size := u.dim("unknown"), u.dim("unknown")
		if t.Rows != nil {
			count = fmt.Sprint(*t.Rows)
			if !t.Exact {
				count = "~" + count
			}
		}
		if t.Bytes != nil {
			size = bytesText(*t.Bytes)
		}
		if t.View {
			count, size = u.dim("view"), ""
		}
		rows = append(rows, row{cells: []string{printable(t.Name), count, size}})
	}
	if len(rows) > 0 {
		u.table([]string{"table", "rows", "size"}, rows, 1, 2)
		return
	}
	u.say(u.dim("next: dravit db load FILE"))
}

// Access writes how to reach a database.
func (u *UI) Access(a databases.Access) {
	u.say(u.bold(a.Part) + "  " + a.Kind)
	line := func(name, value string) {
		if value != "" {
			u.say(u.dim(fmt.Sprintf("%-9s", name)) + printable(value))
		}
	}
	line("host", a.Host)
	if a.Port != 0 {
		line("port", fmt.Sprint(a.Port))
	}
	line("socket", a.Socket)
	line("user", a.User)
	line("password", a.Password)
	line("database", a.Database)
	line("others", strings.Join(a.Others, ", "))
	line("users", strings.Join(a.Users, ", "))
	line("url", a.URL)
	if a.User != "" && a.Password == "" {
		u.say(u.dim("next: dravit db access --password shows the password, too"))
	}
}

// Grid writes the results of queries as tables. It holds a few rows to find the width of the columns, and writes the
// others as they come.
type Grid struct {
	u       *UI
	names   []string
	held    [][]*string
	widths  []int
	count   int
	results int
}

// held rows decide about the widths; a cell has at most widest columns.
const (
	heldRows = 200
	widest   = 60
)

// Grid returns a writer of query results. End must be called.
func (u *UI) Grid() *Grid { return &Grid{u: u} }

// Columns begins another result.
func (g *Grid) Columns(names []string) error {
	g.finish()
	if g.results++; g.results > 1 {
		g.u.say("")
	}
	g.names, g.held, g.widths, g.count = names, nil, nil, 0
	return nil
}

// Row takes a row.
func (g *Grid) Row(values []*string) error {
	g.count++
	if g.widths == nil {
		g.held = append(g.held, append([]*string{}, values...))
		if len(g.held) == heldRows {
			g.flush()
		}
		return nil
	}
	g.line(values)
	return nil
}

// flush writes what is held.
func (g *Grid) flush() {
	g.widths = make([]int, len(g.names))
	for i, n := range g.names {
		g.widths[i] = min(widest, ansi.StringWidth(printable(n)))
	}
	for _, row := range g.held {
		for i, v := range row {
			g.widths[i] = max(g.widths[i], min(widest, ansi.StringWidth(cell(v))))
		}
	}
	head := make([]*string, len(g.names))
	for i := range g.names {
		head[i] = &g.names[i]
	}
	g.u.say(g.u.dim(g.text(head)))
	for _, row := range g.held {
		g.line(row)
	}
	g.held = nil
}

func (g *Grid) line(row []*string) { g.u.say(g.text(row)) }

// cell returns a value as one line.
func cell(v *string) string {
	if v == nil {
		return "NULL"
	}
	return printable(strings.NewReplacer("\r\n", " ", "\n", " ", "\t", " ").Replace(*v))
}

func (g *Grid) text(row []*string) string {
	var b strings.Builder
	for i, v := range row {
		text := ansi.Truncate(cell(v), widest, "…")
		gap := strings.Repeat(" ", max(0, g.widths[i]-ansi.StringWidth(text)))
		if v == nil {
			text = g.u.dim(text)
		}
		if i > 0 {
			b.WriteString("  ")
		}
		b.WriteString(text + gap)
	}
	return strings.TrimRight(b.String(), " ")
}

// finish ends a result.
func (g *Grid) finish() {
	if g.names == nil {
		return
	}
	if g.widths == nil {
		g.flush()
	}
	g.u.say(g.u.dim(plural(g.count, "row")))
}

// End ends the last result. done is whether the query was.
func (g *Grid) End(done bool) {
	g.finish()
	if done && g.results == 0 {
		g.u.say(g.u.dim("done; it has no rows"))
	}
}

// Flushed writes which caches are empty now.
func (u *UI) Flushed(parts []string) {
	for _, p := range parts {
		u.say(u.bold(p) + "  " + u.paint(green, "flushed"))
	}
}

// DatabaseAdded writes that a database was created.
func (u *UI) DatabaseAdded(name string) {
	u.say(u.bold(name) + "  " + u.paint(green, "added"))
	u.say(u.dim("next: dravit db load FILE --database " + name))
}

// UserAdded writes that an account was created, with its password.
func (u *UI) UserAdded(a kind.Account) {
	rights := "has the application's rights"
	if a.ReadOnly {
		rights = "only reads"
	}
	u.say(u.bold(a.Name) + "  " + u.paint(green, "added") + "; it " + rights)
	u.say(u.dim("password ") + a.Password)
	u.say(u.dim("it is shown this once. next: dravit db access shows host and port"))
}

// DatabaseDropped writes that a database or a user was deleted.
func (u *UI) DatabaseDropped(name string) { u.say(u.bold(name) + "  " + u.paint(green, "dropped")) }
