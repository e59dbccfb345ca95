package diagnose

import (
	"cmp"
	"fmt"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"dravit/internal/cause"
	"dravit/internal/kind"
	"dravit/internal/pattern"
	"dravit/internal/project"
	"dravit/internal/stackfile"
)

// wanted is what an application asked a store for, as far as the store's or the client's words tell.
type wanted struct {
	address
	user, database string
}

var (
	userWords = pattern.New(`user '([^']*)'|user "([^"]*)"|role "([^"]*)" does not exist`)
	nameWords = pattern.New(`Unknown database '([^']*)'|database "([^"]*)" does not exist|to database '([^']*)'`)
)

// wantedBy returns what a cause's application asked for.
func wantedBy(c Cause) (w wanted) {
	text := c.What + "\n" + strings.Join(c.Evidence, "\n")
	asks := slices.Contains([]cause.ID{cause.StoreElsewhere, cause.ProxyElsewhere, cause.ForeignService,
		cause.MailRefused}, c.Cause)
	if a, ok := addressIn(text); ok && asks {
		w.address = a
	}
	if m := userWords().FindStringSubmatch(text); m != nil {
		w.user = cmp.Or(m[1:]...)
	}
	if m := nameWords().FindStringSubmatch(text); m != nil {
		w.database = cmp.Or(m[1:]...)
	}
	return w
}

// words returns what a file would contain that leads the application there.
func (w wanted) words(c Cause) []string {
	var all []string
	switch c.Cause {
	case cause.StoreElsewhere, cause.ProxyElsewhere, cause.MailRefused:
		if w.port > 99 { // else it is a number like others
			all = append(all, strconv.Itoa(w.port))
		}
		if w.host != "" && (!w.local() || w.port == 0) {
			all = append(all, w.host)
		}
		if w.path != "" {
			all = append(all, w.path)
		}
	case cause.ForeignService:
		all = append(all, w.host)
	case cause.WrongPassword:
		all = append(all, w.user)
	case cause.DatabaseMissing:
		all = append(all, w.database)
	}
	return slices.DeleteFunc(all, func(s string) bool { return s == "" })
}

// Asks reports whether a cause is about a server that an application asked: where it has the address from matters.
func Asks(id cause.ID) bool {
	return slices.Contains([]cause.ID{cause.StoreElsewhere, cause.WrongPassword, cause.DatabaseMissing,
		cause.ForeignService, cause.ProxyElsewhere, cause.CertificateExpired, cause.MailRefused}, id)
}

// Words returns the words of addresses, users and databases in some causes: where the project's files contain them,
// the application may have them from.
func Words(causes []Cause) []string {
	var all []string
	for _, c := range causes {
		all = append(all, wantedBy(c).words(c)...)
	}
	slices.Sort(all)
	return slices.Compact(all)
}

// values says where an application has an address, a user or a name from that leads it to no store of the stack: a
// variable in a file of the project's own, which overrides the stack's, or its code.
func (d *doctor) values() {
	for i := range d.all {
		c := &d.all[i]
		words := wantedBy(*c).words(*c)
		if c.Cause == cause.ProxyElsewhere {
			d.backEnd(c, words)
			continue
		}
		if c.Cause == cause.MailRefused || c.Cause == cause.ForeignService {
			continue // it is of no store
		}
		store, foreign, ok := d.storeOf(*c)
		if !ok && foreign == "" {
			store, ok = d.storeByVariable(*c, words)
		}
		if !ok {
			continue
		}
		app, _ := d.partOf(d.appBehind(*c))
		if d.literal(*c, words) {
			d.atPlace(c, store)
		} else if !d.override(c, app.Spec, store, words) {
			d.inCode(c, app.Spec, store, words)
		}
	}
}

// storeByVariable returns the store that an application means by a variable whose value a cause names: DB_HOST, say, is
// the address of the part db.
func (d *doctor) storeByVariable(c Cause, words []string) (store kind.Part, ok bool) {
	if c.Cause != cause.StoreElsewhere && c.Cause != cause.WrongPassword && c.Cause != cause.DatabaseMissing {
		return store, false
	}
	app, ok := d.partOf(d.appBehind(c))
	if !ok {
		return store, false
	}
	for _, v := range d.f.Variables {
		if !slices.ContainsFunc(words, func(w string) bool { return holdsWord(v.Value, w) }) {
			continue
		}
		for _, use := range app.Spec.Uses {
			if p, ok := d.partOf(use); ok && strings.HasPrefix(v.Name, stackfile.EnvPrefix(use)+"_") {
				return p.Spec, true
			}
		}
	}
	return store, false
}

// holdsWord reports whether a value is a word, or a URL with it.
func holdsWord(value, word string) bool {
	at := strings.Index(value, word)
	if at < 0 {
		return false
	}
	end := at + len(word)
	part := func(b byte) bool {
		return b == '_' || b == '.' || b >= '0' && b <= '9' || b >= 'A' && b <= 'Z' || b >= 'a' && b <= 'z'
	}
	return (at == 0 || !part(value[at-1])) && (end == len(value) || !part(value[end]))
}

// backEnd says where the proxy of a front end has its address from, and which variable has that of the stack's own back
// end.
func (d *doctor) backEnd(c *Cause, words []string) {
	front := d.appBehind(*c)
	var lines []project.Mention
	for _, m := range d.f.Mentions {
		if slices.Contains(words, m.Word) && !listening().MatchString(m.Text) {
			lines = append(lines, m)
		}
	}
	at := "its proxy's address"
	if len(lines) > 0 {
		m := slices.MaxFunc(lines, func(a, b project.Mention) int {
			return cmp.Compare(d.proxies(front, a), d.proxies(front, b))
		})
		c.Place = fmt.Sprintf("%s:%d", m.File, m.Line)
		c.Evidence = append(c.Evidence, c.Place+": "+oneLine(m.Text))
		at = c.Place
	}
	back, ok := d.behind(front, words)
	if !ok {
		c.Remedy = "correct " + at
		return
	}
	name := stackfile.EnvPrefix(back.Name) + "_URL"
	c.Evidence = append(c.Evidence, "part "+back.Name+" listens on "+back.Address())
	c.Remedy = "in " + at + ", use process.env." + name + ", which is that of part " + back.Name
}

// listening matches a line of code in which a server listens on a port, and configures no proxy.
var listening = pattern.New(`\blisten\(|process\.env\.PORT\b|\bPORT\s*(?:\|\||\?\?|=)`)

// proxies says how likely a line is the configuration of a front end's proxy: the more, the likelier.
func (d *doctor) proxies(front string, m project.Mention) (points int) {
	folder := d.folderOf(front)
	if folder != "." && strings.HasPrefix(m.File, folder+"/") {
		points += 4
	}
	if name := strings.ToLower(filepath.Base(m.File)); strings.Contains(name, "config") ||
		strings.Contains(name, "proxy") || name == "package.json" {
		points += 2
	}
	if strings.Contains(m.Text, "://") || strings.Contains(strings.ToLower(m.Text), "proxy") {
		points++
	}
	return points
}

// behind returns the back end that a front end's proxy means: an application in whose folder one of the words stands,
// else the first one, else a web server.
func (d *doctor) behind(front string, words []string) (back kind.Part, ok bool) {
	best := 0
	for _, p := range d.f.Parts {
		if p.Spec.Name == front || p.Spec.Port == 0 || p.Spec.Want.Worker() {
			continue
		}
		points := map[kind.Role]int{kind.RoleApp: 2, kind.RoleWeb: 1}[p.Spec.Role]
		folder := p.Spec.Want.Folder()
		if points > 0 && folder != "." && slices.ContainsFunc(d.f.Mentions, func(m project.Mention) bool {
			return slices.Contains(words, m.Word) && strings.HasPrefix(m.File, folder+"/")
		}) {
			points += 2
		}
		if points > best {
			best, back, ok = points, p.Spec, true
		}
	}
	return back, ok
}

// override explains a cause by a variable in a file, and reports whether it could.
func (d *doctor) override(c *Cause, app, store kind.Part, words []string) bool {
	var hit *project.Variable
	for i, v := range d.f.Variables {
		right := kind.Getenv(app.Env, v.Name)
		named := slices.ContainsFunc(words, func(w string) bool { return holdsWord(v.Value, w) })
		likely := slices.Contains(silent(c.Cause, words), fieldOf(v.Name)) && d.meant(app, store, v.Name)
		if (named || likely) && v.Value != right && concerns(c.Cause, v.Name) && (hit == nil || named) &&
			!d.same(store, v) {
			hit = &d.f.Variables[i]
		}
	}
	if hit == nil {
		return false
	}
	at := fmt.Sprintf("%s:%d", hit.File, hit.Line)
	what := fmt.Sprintf("%s is %s in %s", hit.Name, hit.Value, at)
	if fieldOf(hit.Name) == "password" || fieldOf(hit.Name) == "url" {
		what = fmt.Sprintf("%s in %s is not the stack's", hit.Name, at)
	}
	c.Evidence = append([]string{c.What}, c.Evidence...)
	c.What = fmt.Sprintf("%s; %s", what, d.has(store, fieldOf(hit.Name)))
	c.Place = at
	d.keepUpToDate(c, app, store, *hit)
	return true
}

// concerned are the fields of a store that a cause may be about.
var concerned = map[cause.ID][]string{cause.WrongPassword: {"user", "password", "url"},
	cause.DatabaseMissing: {"database", "url"}, cause.StoreElsewhere: {"host", "port", "socket", "url"},
	cause.MailRefused: {"host", "port", "url"}}

// concerns reports whether a variable of that name may hold what is wrong. APP_NAME is no database's.
func concerns(id cause.ID, name string) bool {
	field := fieldOf(name)
	fields, known := concerned[id]
	return field != "" && (!known || slices.Contains(fields, field)) && !strings.HasSuffix(name, "APP_NAME")
}

// literal reports whether the line of code that failed holds what leads it astray itself: a user, an address.
func (d *doctor) literal(c Cause, words []string) bool {
	line := d.f.Lines[c.Place]
	if line == "" || !connects().MatchString(line) {
		return false
	}
	if c.Cause == cause.StoreElsewhere && len(words) == 0 {
		return literalAddress().MatchString(line)
	}
	if c.Cause == cause.WrongPassword && literalPassword().MatchString(line) {
		return true
	}
	return slices.ContainsFunc(words, func(w string) bool {
		if _, err := strconv.Atoi(w); err == nil || c.Cause != cause.StoreElsewhere {
			return holdsWord(line, w)
		}
		return holdsHost(line, w)
	})
}

// holdsHost reports whether a line of code holds a name as that of a host: mysql is the name of a driver, too.
func holdsHost(line, host string) bool {
	return slices.ContainsFunc([]string{"host=" + host, "'" + host + "'", `"` + host + `"`, "@" + host, "//" + host},
		func(text string) bool { return strings.Contains(line, text) })
}

var (
	// literalAddress matches an address of a store that is written in code, and literalPassword a password.
	literalAddress = pattern.New(`(?:host|server)=[\w.]+|port=\d+|['"](?:localhost|127\.0\.0\.1)['":;]|` +
		`\b(?:mysql|mariadb|postgres(?:ql)?|redis|mongodb)://[^'"\s{$]+:\d+`)
	literalPassword = pattern.New(`(?i)pass(?:word|wd)?['"]?\s*(?:=>?|:)\s*['"][^'"$#{]+['"]`)
)

// silent returns what of a store is wrong although the message of a cause does not name it.
func silent(id cause.ID, words []string) []string {
	switch {
	case id == cause.WrongPassword:
		return []string{"password"}
	case id == cause.StoreElsewhere && len(words) == 0:
		return []string{"port", "host", "socket", "url"}
	}
	return nil
}

// same reports whether a variable says the same as the stack, though in other words.
func (d *doctor) same(store kind.Part, v project.Variable) bool {
	switch fieldOf(v.Name) {
	case "host":
		return address{host: v.Value}.local() && address{host: store.HostName()}.local()
	case "port":
		return v.Value == strconv.Itoa(store.Port)
	}
	return false
}

// has says what a store has instead.
func (d *doctor) has(store kind.Part, field string) string {
	switch field {
	case "port", "host":
		if store.Port == 0 {
			return "part " + store.Name + " listens on " + store.Socket
		}
		return "part " + store.Name + " listens on " + store.Address()
	case "socket":
		return "part " + store.Name + " listens on " + store.Socket
	case "user":
		return "the user of part " + store.Name + " is " + store.User
	case "database":
		return "the database of part " + store.Name + " is " + store.Database
	}
	return "dravit db access shows that of part " + store.Name
}

// fields are the endings of variables' names, with what they are of a store.
var fields = []struct{ ending, field string }{
	{"PASSWORD", "password"}, {"PASSWD", "password"}, {"PASS", "password"}, {"PWD", "password"},
	{"USERNAME", "user"}, {"USER", "user"}, {"LOGIN", "user"},
	{"DATABASE", "database"}, {"DBNAME", "database"}, {"DB_NAME", "database"}, {"NAME", "database"},
	{"HOSTNAME", "host"}, {"HOST", "host"}, {"SERVER", "host"}, {"PORT", "port"}, {"SOCKET", "socket"},
	{"URL", "url"}, {"URI", "url"}, {"DSN", "url"}, {"DB", "database"},
}

// fieldOf returns what of a store a variable is, as its name says: port, host, user, password, database, socket, url,
// or "".
func fieldOf(name string) string {
	upper := strings.ToUpper(name)
	for _, f := range fields {
		if upper == f.ending || strings.HasSuffix(upper, "_"+f.ending) || strings.HasSuffix(upper, f.ending) {
			return f.field
		}
	}
	return ""
}

// base returns a variable's name without what it is of a store.
func base(name string) string {
	upper := strings.ToUpper(name)
	for _, f := range fields {
		if rest, ok := strings.CutSuffix(upper, f.ending); ok {
			return strings.Trim(rest, "_")
		}
	}
	return upper
}

// meant reports whether a variable is of a store, as far as its name tells.
func (d *doctor) meant(app, store kind.Part, name string) bool {
	prefix := stackfile.EnvPrefix(store.Name)
	if strings.HasPrefix(name, prefix+"_") || kind.Getenv(app.Env, name) != "" {
		return true
	}
	others := slices.DeleteFunc(slices.Clone(app.Uses), func(use string) bool { return use == store.Name })
	return !slices.ContainsFunc(others, func(use string) bool {
		return strings.HasPrefix(name, stackfile.EnvPrefix(use)+"_")
	})
}

// keepUpToDate makes the remedy of a cause that starts keep the variables of a file up to date: those that belong
// together with the wrong one, and differ from the stack's.
func (d *doctor) keepUpToDate(c *Cause, app, store kind.Part, wrong project.Variable) {
	var keys []string
	var changes []stackfile.Change
	for _, v := range d.f.Variables {
		field := fieldOf(v.Name)
		if v.File != wrong.File || field == "" || base(v.Name) != base(wrong.Name) || slices.Contains(keys, v.Name) {
			continue
		}
		right := kind.Getenv(app.Env, v.Name)
		if right == v.Value {
			continue
		}
		if right == "" && !d.set(v.Name) {
			if field == "socket" && store.Socket == "" || field == "port" && store.Port == 0 {
				continue
			}
			changes = append(changes, stackfile.Change{Table: "env", Key: v.Name,
				Value: "{" + store.Name + "." + field + "}"})
		}
		keys = append(keys, v.Name)
	}
	right := cmp.Or(kind.Getenv(app.Env, wrong.Name), "what dravit db access shows")
	switch own := d.f.Dotenv; {
	case own == nil:
		changes = append(changes, stackfile.Change{Key: "dotenv", Value: map[string]any{"file": wrong.File,
			"keys": keys}})
	case own.File == wrong.File && len(own.Keys) > 0:
		for _, k := range own.Keys {
			if !slices.Contains(keys, k) {
				keys = append(keys, k)
			}
		}
		changes = append(changes, stackfile.Change{Key: "dotenv", Value: map[string]any{"file": wrong.File,
			"keys": keys}})
	default: // another file is kept already
		c.Remedy = fmt.Sprintf("write %s in %s:%d, or delete that line: the stack sets %s", right, wrong.File,
			wrong.Line, wrong.Name)
		return
	}
	c.Edit = changes
	c.Remedy = "have starts keep " + wrong.File + " up to date"
}

// set reports whether the stack file sets a variable.
func (d *doctor) set(name string) bool { return slices.Contains(d.f.EnvKeys, name) }

// readers are how code reads a variable, by the ending of its file.
var readers = map[string]string{".php": "getenv('%s')", ".py": `os.environ["%s"]`, ".js": "process.env.%s",
	".cjs": "process.env.%s", ".mjs": "process.env.%s", ".ts": "process.env.%s", ".rb": `ENV["%s"]`}

// connects matches a line of code or configuration that has to do with a log-in to a store.
var connects = pattern.New(`(?i)user|pass|pwd|login|role|connect|client|pool|engine|database|dbname|\bdb\b|dsn|` +
	`mysql|mariadb|postgres|redis|mongo|://|new PDO`)

// atPlace explains a cause by the line of code that failed.
func (d *doctor) atPlace(c *Cause, store kind.Part) {
	var names []string
	for _, field := range concerned[c.Cause] {
		if field != "url" && field != "socket" { // one way to say it is enough
			names = append(names, stackfile.EnvPrefix(store.Name)+"_"+strings.ToUpper(field))
		}
	}
	c.Remedy = readAt(c.Place, names)
}

// readAt says that code should read variables at FILE:LINE, as the language of the file does.
func readAt(place string, names []string) string {
	file, _, _ := strings.Cut(place, ":")
	how := cmp.Or(readers[filepath.Ext(file)], "%s")
	var reads []string
	for _, name := range names {
		reads = append(reads, fmt.Sprintf(how, name))
	}
	return "in " + place + ", read it from the environment: " + strings.Join(reads, " and ")
}

// inCode explains a cause by a line of the project's code or configuration.
func (d *doctor) inCode(c *Cause, app, store kind.Part, words []string) {
	ofLogIn := c.Cause == cause.WrongPassword || c.Cause == cause.DatabaseMissing // a name may be an everyday word
	i := slices.IndexFunc(d.f.Mentions, func(m project.Mention) bool {
		return slices.Contains(words, m.Word) && !strings.HasPrefix(filepath.Base(m.File), ".env") &&
			(!ofLogIn || connects().MatchString(m.Text))
	})
	if i < 0 || store.Name == "" {
		return
	}
	m := d.f.Mentions[i]
	field := map[cause.ID]string{cause.WrongPassword: "PASSWORD", cause.DatabaseMissing: "DATABASE"}[c.Cause]
	if field == "" {
		field = "HOST"
		if m.Word == strconv.Itoa(wantedBy(*c).port) {
			field = "PORT"
		}
	}
	name := stackfile.EnvPrefix(store.Name) + "_" + field
	c.Place = fmt.Sprintf("%s:%d", m.File, m.Line)
	c.Evidence = append(c.Evidence, c.Place+": "+oneLine(m.Text))
	if has := d.has(store, strings.ToLower(field)); !slices.Contains(c.Evidence, has) {
		c.Evidence = append(c.Evidence, has)
	}
	c.Remedy = readAt(c.Place, []string{name})
}
