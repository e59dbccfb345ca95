package diagnose

import (
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravit/internal/cause"
	"dravit/internal/kind"
	kinds "dravit/internal/kind/all"
	"dravit/internal/lifecycle"
	"dravit/internal/logfile"
	"dravit/internal/materialise"
	"dravit/internal/pattern"
	"dravit/internal/project"
	"dravit/internal/requests"
	"dravit/internal/stackfile"
)

// The stack of these tests: an application in PHP, a server of the project's own, and a database.
var (
	phpTraits = kind.Traits{Name: "php", Role: kind.RoleRuntime, Symptoms: []kind.Symptom{
		kind.When("store-elsewhere", pattern.New(`(ECONNREFUSED [\d.:]+|Connection refused|ENOTFOUND [\w.-]+|`+
			`connection to server at "[^"]+", port \d+ failed)`), "it looks for a store at $1", "look"),
		kind.When("wrong-password", pattern.New(`(Access denied for user '[^']*')`), "refused: $1", "look"),
		kind.When("database-missing", pattern.New(`(Unknown database '[^']*')`), "missing: $1", "look"),
		kind.When("memory-limit", pattern.New(`Allowed memory size of (\d+) bytes`),
			"a script needs more memory than memory_limit allows ($1 bytes)", "more"),
		kind.When("time-limit", pattern.New(`Maximum execution time of (\d+) s`),
			"a script ran longer than max_execution_time allows ($1 s)", "more"),
		kind.When("upload-limit", pattern.New(`POST Content-Length`), "an upload is too large", "more"),
		kind.When("folder-missing", pattern.New(`mkdir (\S+)`), "the application cannot write to $1: its folder "+
			"is missing",
			"make it"),
		kind.When("file-missing", pattern.New(`open (\S+)`), "the application uses $1, which does not exist",
			"make it"),
		kind.When("packages-missing", pattern.New(`No module named '([^']+)'`),
			"the package $1 is not installed for this interpreter", "install it"),
		kind.When("packet-limit", pattern.New(`packet bigger`), "too long", "shorten it"),
		kind.When("mail-refused", pattern.New(`no mail`), "mail is not accepted", "send it elsewhere"),
		kind.When("application-error", pattern.New(`Fatal error`), "it fails", "correct it"),
	}, Raises: kinds.Kinds().TraitsOf("php").Raises}
	shopApp = kind.Part{Name: "app", Kind: "php", Role: kind.RoleRuntime, Project: ferry, Log: "/l/logs/app.log",
		Uses: []string{"db"}, Env: []string{"DB_HOST=127.0.0.1", "DB_PORT=13306", "DB_USER=ferry", "DB_PASSWORD=salt"}}
	shopDB = kind.Part{Name: "db", Kind: "mariadb", Role: kind.RoleDatabase, Port: 13306, User: "ferry",
		Database: "ferry"}
	dbTraits = kind.Traits{Name: "mariadb", Role: kind.RoleDatabase, Databases: true,
		Raises:  kinds.Kinds().TraitsOf("mariadb").Raises,
		Clients: pattern.New(`mysql|PDO`), Signs: kind.Signs{Port: 3306}}
)

func said(status int, text string) Evidence {
	return Evidence{Status: status, Failed: status >= 500 || status == 0, Parts: []Speaker{
		{Spec: shopApp, Traits: phpTraits, Said: text}, {Spec: kind.Part{Name: "web", Log: "/l/logs/web.log"}}}}
}

// Only what shows a failure is one.
func TestExplain(t *testing.T) {
	const thrown = "PHP Fatal error:  Uncaught Error: fog in /home/ada/ferry/a.php:3\n"
	for name, c := range map[string]struct {
		evidence    Evidence
		cause       cause.ID
		what, place string
	}{
		"a healthy page": {said(200, "GET /\nPHP Warning:  it rains\n"), "", "", ""},
		"not found":      {said(404, "GET /x 404\n"), "", "", ""},
		"an error": {said(500, thrown), "application-error", "the application's own code fails: Error: fog",
			"a.php:3"},
		"an error with 200": {said(200, thrown), "application-error", "the application's own code fails: Error: fog",
			"a.php:3"},
		"a symptom goes before": {said(500, thrown+"Access denied for user 'x'\n"), "wrong-password",
			"refused: Access denied for user 'x'", "a.php:3"},
		"a symptom with 200": {said(200, "no mail today\n"), "mail-refused", "mail is not accepted", ""},
		"nothing is said": {said(500, "dravit: part app is started\n"), Unexplained, "a page ends with status " +
			"500", ""},
		"a caught error": {said(500, "no berth: Cannot read boats\n"), Unexplained, "and the application wrote: no " +
			"berth: Cannot read boats", ""},
		"a request": {said(500, "GET /boats\n"), Unexplained, "nothing says why", ""},
		"no answer": {said(0, "GET /"), Unexplained, "without a whole answer", ""},
		"closed":    {said(502, ""), Unexplained, "closes the connection", ""},
		"late":      {said(504, ""), Unexplained, "in time", ""},
	} {
		x, fails := Explain(c.evidence)
		assert.Equal(t, c.cause != "", fails, name)
		assert.EqualValues(t, c.cause, x.Cause, name)
		assert.Contains(t, x.What, c.what, name)
		assert.Equal(t, c.place, x.Place, name)
		assert.NotContains(t, strings.Join(x.Evidence, ""), "part app is started", name)
	}
	own := said(200, thrown)
	own.Parts[0].Spec.Role = kind.RoleApp
	_, fails := Explain(own)
	assert.False(t, fails, "a server of the project's own writes what it has handled, too")
}

// page is a failed page with what was written.
func page(path, text string) PageFacts {
	return PageFacts{Failure: requests.Failure{Site: "day", Method: "GET", Path: path, Status: 500, App: "app",
		Count: 2,
		Last:  time.Unix(940, 0)}, Evidence: said(500, text)}
}

// shop returns the facts of a stack that answers.
func shop(pages ...PageFacts) Facts {
	return Facts{Now: time.Unix(1000, 0), Gateway: Gateway{Runs: true}, Pages: pages,
		Kinds: []*kind.Traits{&phpTraits, &dbTraits, kinds.Kinds().TraitsOf("dravit-mail")},
		Parts: []PartFacts{
			{Spec: shopApp, Traits: phpTraits, Status: lifecycle.Status{State: lifecycle.Answers}},
			{Spec: shopDB, Traits: dbTraits, Status: lifecycle.Status{State: lifecycle.Answers}},
		},
		Sites: []SiteFacts{{Spec: materialise.Site{Name: "day", App: "app"}}}}
}

// Pages that fail for one reason are one cause.
func TestPages(t *testing.T) {
	f := shop(page("/a", "no mail"), page("/b", "no mail"), page("/c", ""))
	all := Causes(f)
	require.Len(t, all, 2)
	assert.Equal(t, "mail-refused site.day", string(all[0].Cause)+" "+all[0].Subject.String())
	require.Len(t, all[0].Pages, 2)
	assert.Equal(t, Page{"GET", "/b", 500, 2, time.Unix(940, 0)}, all[0].Pages[1])
	assert.Contains(t, all[0].Evidence, "GET /a ended with status 500 2 times, 1m0s ago")
	assert.Equal(t, Unexplained, all[1].Cause)
	assert.True(t, Fails(all))
	assert.False(t, Fails([]Cause{{rank: aside}}))
	assert.Equal(t, all, Causes(f), "asked twice, the answer is the same")
	f.Pages = []PageFacts{page("/a", "PDO ECONNREFUSED 127.0.0.1:13306")}
	assert.Empty(t, Causes(f), "the store that it asked for is back")
	f.Pages = []PageFacts{page("/a", "PHP Fatal error:  Uncaught Error: fog in /home/ada/ferry/a.php:3\n")}
	f.Lines = map[string]string{"a.php:3": "throw $fog;"}
	assert.Contains(t, Causes(f)[0].Evidence, "a.php:3: throw $fog;")
}

// A page that failed because its application ended, or does not run, is one cause with that.
func TestPagesOfAnApplicationThatEnded(t *testing.T) {
	exit := &lifecycle.Exit{At: time.Unix(941, 0), How: "it exited with code 1", Tail: []string{"fog: no mail"}}
	f := shop(page("/a", "no mail"))
	f.Pages[0].Status = 502
	f.Parts[0].Status = lifecycle.Status{State: lifecycle.Unwell, LastExit: exit, Because: "connection refused"}
	f.Parts[0].Program = true
	all := Causes(f)
	require.Len(t, all, 1)
	assert.Equal(t, "mail-refused site.day", string(all[0].Cause)+" "+all[0].Subject.String())
	assert.Contains(t, all[0].Evidence, "part app: it exited with code 1 then")

	f.Pages[0].Status = 500
	assert.NotContains(t, Causes(f)[0].Evidence, "part app: it exited with code 1 then", "it had answered that page")

	f.Pages[0].Status = 502
	f.Parts[0].Status.LastExit = &lifecycle.Exit{At: time.Unix(900, 0), How: "it exited with code 1"}
	all = Causes(f)
	require.Len(t, all, 2, "it ended another time")
	assert.EqualValues(t, "crashed", all[1].Cause)

	f = shop(page("/a", ""), page("/b", ""))
	f.Pages[0].Status, f.Pages[1].Status = 502, 502
	f.Pages[1].Last = time.Unix(945, 0) // while it comes back
	f.Parts[0].Status = lifecycle.Status{State: lifecycle.Answers, LastExit: exit}
	all = Causes(f)
	require.Len(t, all, 1)
	assert.EqualValues(t, "crashed", all[0].Cause)
	assert.Equal(t, "part app ends while pages are asked for: it exited with code 1", all[0].What)
	assert.Len(t, all[0].Pages, 2)

	f = shop(page("/a", ""))
	f.Parts[0].Status = lifecycle.Status{State: lifecycle.Failed, LastExit: exit, Because: "no mail"}
	f.Parts[0].Program = true
	all = Causes(f)
	require.Len(t, all, 1, "the page says nothing, and the part says why")
	assert.Equal(t, "mail-refused part.app", string(all[0].Cause)+" "+all[0].Subject.String())
	assert.Contains(t, all[0].Evidence, "GET /a ended with status 500 2 times, 1m0s ago")
}

// A wrong value is named with its place, and the remedy keeps it right.
func TestOverrides(t *testing.T) {
	env := []project.Variable{{File: ".env", Line: 1, Name: "DB_HOST", Value: "localhost"},
		{File: ".env", Line: 2, Name: "DB_PORT", Value: "3306"}, {File: ".env", Line: 3, Name: "DB_USER",
			Value: "root"},
		{File: ".env", Line: 4, Name: "DB_PASSWORD", Value: "x"}, {File: ".env", Line: 5, Name: "MAIL_PORT",
			Value: "25"}}
	keys := func(names ...string) []stackfile.Change {
		return []stackfile.Change{{Key: "dotenv", Value: map[string]any{"file": ".env", "keys": names}}}
	}
	for name, c := range map[string]struct {
		text string
		env  []project.Variable
		what string
		edit []stackfile.Change
	}{
		"a port": {"PDO ECONNREFUSED 127.0.0.1:3306", env, "DB_PORT is 3306 in .env:2; part db listens on " +
			"127.0.0.1:13306",
			keys("DB_HOST", "DB_PORT", "DB_USER", "DB_PASSWORD")},
		"without an address": {"PDO Connection refused", env, "DB_PORT is 3306 in .env:2",
			keys("DB_HOST", "DB_PORT", "DB_USER", "DB_PASSWORD")},
		"a user": {"PDO Access denied for user 'root'", env, "DB_USER is root in .env:3; the user of part db is ferry",
			keys("DB_HOST", "DB_PORT", "DB_USER", "DB_PASSWORD")},
		"a password": {"PDO Access denied for user 'ferry'", env, "DB_PASSWORD in .env:4 is not the stack's",
			keys("DB_HOST", "DB_PORT", "DB_USER", "DB_PASSWORD")},
		"a host": {"PDO ENOTFOUND mysql", []project.Variable{{File: ".env", Line: 9, Name: "DB_HOST", Value: "mysql"}},
			"DB_HOST is mysql in .env:9", keys("DB_HOST")},
		"a variable of its own": {"PDO ECONNREFUSED 127.0.0.1:3307", []project.Variable{
			{File: ".env", Line: 1, Name: "SHOP_PORT", Value: "3307"}, {File: ".env", Line: 2, Name: "SHOP_NAME",
				Value: "shop"}},
			"SHOP_PORT is 3307 in .env:1", append([]stackfile.Change{
				{Table: "env", Key: "SHOP_PORT", Value: "{db.port}"}, {Table: "env", Key: "SHOP_NAME",
					Value: "{db.database}"}},
				keys("SHOP_PORT", "SHOP_NAME")...)},
		"a URL": {"PDO ECONNREFUSED 127.0.0.1:3307", []project.Variable{
			{File: ".env", Line: 1, Name: "DATABASE_URL", Value: "mysql://root:x@127.0.0.1:3307/shop"}},
			"DATABASE_URL in .env:1 is not the stack's", append([]stackfile.Change{
				{Table: "env", Key: "DATABASE_URL", Value: "{db.url}"}}, keys("DATABASE_URL")...)},
		"no variable": {"PDO ECONNREFUSED 127.0.0.1:3307", nil, "it looks for a store at ECONNREFUSED " +
			"127.0.0.1:3307", nil},
	} {
		f := shop(page("/a", c.text))
		f.Variables = c.env
		all := Causes(f)
		require.NotEmpty(t, all, name)
		assert.Contains(t, all[0].What, c.what, name)
		assert.Equal(t, c.edit, all[0].Edit, name)
	}
	f := shop(page("/a", "PDO ECONNREFUSED 127.0.0.1:3306"))
	f.Variables, f.Dotenv = env, &stackfile.Dotenv{File: ".env.local"}
	assert.Contains(t, Causes(f)[0].Remedy, "write 13306 in .env:2")
	f.Dotenv = &stackfile.Dotenv{File: ".env", Keys: []string{"DB_HOST"}}
	assert.Equal(t, keys("DB_HOST", "DB_PORT", "DB_USER", "DB_PASSWORD"), Causes(f)[0].Edit)
	f.Variables = nil
	f.Mentions = []project.Mention{{File: "db.php", Line: 3, Word: "3306", Text: "$port = 3306;"}}
	all := Causes(f)
	assert.Equal(t, "db.php:3", all[0].Place)
	assert.Equal(t, "in db.php:3, read it from the environment: getenv('DB_PORT')", all[0].Remedy)
	assert.Equal(t, []string{"3306"}, Words(Causes(f)))
}

// A line of code that holds a user or an address itself goes before a file of variables that nothing may read.
func TestWrittenInCode(t *testing.T) {
	const thrown = "\nPHP Fatal error:  Uncaught Error: fog in /home/ada/ferry/a.php:3\n"
	for line, c := range map[string]struct{ said, what, remedy string }{
		`new PDO("mysql:host=db;port=1", "root", "x")`: {"PDO Access denied for user 'root'", "refused:",
			"in a.php:3, read it from the environment: getenv('DB_USER') and getenv('DB_PASSWORD')"},
		`connect(user: $user, password: 'x')`: {"PDO Access denied for user 'ferry'", "refused:",
			"in a.php:3, read it from the environment: getenv('DB_USER') and getenv('DB_PASSWORD')"},
		`new PDO("mysql:host=127.0.0.1;port=3306")`: {"PDO Connection refused", "it looks for a store",
			"in a.php:3, read it from the environment: getenv('DB_HOST') and getenv('DB_PORT')"},
		`new PDO("mysql:host=$host")`: {"PDO ENOTFOUND mysql", "DB_HOST is mysql in .env:9", "have starts keep"},
		`$boats->save();`: {"PDO Access denied for user 'root'", "DB_USER is root in .env:3",
			"have starts"},
	} {
		f := shop(page("/a", c.said+thrown))
		f.Lines = map[string]string{"a.php:3": line}
		f.Variables = []project.Variable{{File: ".env", Line: 1, Name: "APP_NAME", Value: "root"},
			{File: ".env", Line: 3, Name: "DB_USER", Value: "root"},
			{File: ".env", Line: 9, Name: "DB_HOST", Value: "mysql"}}
		got := Causes(f)[0]
		assert.Contains(t, got.What, c.what, line)
		assert.Contains(t, got.Remedy, c.remedy, line)
		shown := strings.Contains(strings.Join(got.Evidence, "\n"), line)
		assert.Equal(t, got.Cause != cause.WrongPassword, shown, "it may hold a password: %s", line)
	}
}

// What is not of the stack is named as foreign, with its place.
func TestForeign(t *testing.T) {
	f := shop(page("/a", "Error: getaddrinfo ENOTFOUND api.tides.example"))
	f.Mentions = []project.Mention{{File: "tides.php", Line: 2, Word: "api.tides.example"}}
	all := Causes(f)
	require.Len(t, all, 1)
	assert.EqualValues(t, "foreign-service", all[0].Cause)
	assert.Equal(t, "the application asks api.tides.example, which is not of this stack: no machine has its name",
		all[0].What)
	assert.Equal(t, "tides.php:2", all[0].Place)
	f.Lines = map[string]string{"tides.php:2": `$client->get("http://api.tides.example")`}
	assert.Contains(t, Causes(f)[0].Remedy, "correct the address in tides.php:2", "it is of no store")
	f = shop(page("/a", "URLError: refused"))
	f.Pages[0].Evidence.Parts[0].Traits.Symptoms = []kind.Symptom{kind.When("foreign-service",
		pattern.New(`URLError: \w+`), "it does not answer", "correct its address, or ask whoever runs it")}
	f.Pages[0].Evidence.Parts[0].Said += "\nTraceback (most recent call last):\n" +
		"  File \"/home/ada/ferry/a.py\", line 3, in x\nURLError: refused\n"
	assert.Equal(t, "correct the address that a.py:3 asks, or ask whoever runs it", Causes(f)[0].Remedy)
	f.Lines = map[string]string{"a.py:3": `urlopen("http://127.0.0.1:9999/tides")`}
	all = Causes(f)
	assert.Equal(t, "the application asks 127.0.0.1:9999, which is not of this stack: nothing accepts there",
		all[0].What)
	assert.Equal(t, "correct the address in a.py:3, or start what is to answer there", all[0].Remedy)
	f = shop()
	f.Variables = []project.Variable{{File: ".env", Line: 1, Name: "DB_HOST", Value: "db.office.example"}}
	f.Pages = []PageFacts{page("/a", "getaddrinfo ENOTFOUND db.office.example")}
	assert.Contains(t, Causes(f)[0].What, "DB_HOST is db.office.example in .env:1", "a store's address is no service")
	f = shop(page("/a", "ECONNREFUSED 127.0.0.1:3306"))
	f.Parts = f.Parts[:1]
	all = Causes(f)
	assert.EqualValues(t, "store-lacking", all[0].Cause, "by the port that its servers have by custom")
	assert.Equal(t, []stackfile.Change{{Table: "part.mariadb", Key: "kind", Value: "mariadb"}}, all[0].Edit)
}

func TestEdits(t *testing.T) {
	set := func(key string, value any) stackfile.Change {
		return stackfile.Change{Table: "part.app.settings", Key: key, Value: value}
	}
	for text, want := range map[string][]stackfile.Change{
		"Allowed memory size of 536870912 bytes": {set("memory_limit", "1024M")},
		"Allowed memory size of 1048576 bytes":   {set("memory_limit", "512M")},
		"Maximum execution time of 60 s":         {set("max_execution_time", "240")},
		"POST Content-Length":                    {set("post_max_size", "256M"), set("upload_max_filesize", "256M")},
		"packet bigger": {{Table: "part.db.settings", Key: "max_allowed_packet",
			Value: "256M"}},
		"no mail":                          {{Table: "part.mail", Key: "kind", Value: "dravit-mail"}},
		"mkdir /home/ada/ferry/var/up":     {{Table: "part.app", Key: "writable", Value: []string{"var/up"}}},
		"mkdir /elsewhere/up":              nil,
		"open /home/ada/ferry/up/a.txt":    {{Table: "part.app", Key: "writable", Value: []string{"up"}}},
		"open /home/ada/ferry/there/a.txt": nil,
	} {
		f := shop(page("/a", text))
		f.Lacking = map[string]bool{"/home/ada/ferry/up": true}
		assert.Equal(t, want, Causes(f)[0].Edit, text)
	}
	f := shop(page("/a", "no mail from tcp://127.0.0.1:2525"))
	f.Parts = append(f.Parts, PartFacts{Spec: kind.Part{Name: "mail", Role: kind.RoleMail, Port: 11025},
		Status: lifecycle.Status{State: lifecycle.Answers}})
	f.Parts[0].Spec.Env = append(slices.Clone(f.Parts[0].Spec.Env), "MAIL_PORT=11025")
	f.Variables = []project.Variable{{File: ".env", Line: 7, Name: "MAIL_PORT", Value: "2525"}}
	assert.Contains(t, Causes(f)[0].What, "MAIL_PORT is 2525 in .env:7; part mail listens on 127.0.0.1:11025")
	assert.Equal(t, []stackfile.Change{{Key: "dotenv", Value: map[string]any{"file": ".env",
		"keys": []string{"MAIL_PORT"}}}}, Causes(f)[0].Edit)
	f.Variables = nil
	assert.Contains(t, Causes(f)[0].Evidence, "part mail listens on 127.0.0.1:11025")
	f = shop(page("/a", "getaddrinfo ENOTFOUND letters"))
	f.Variables = []project.Variable{{File: ".env", Line: 7, Name: "SMTP_HOST", Value: "letters"}}
	all := Causes(f)
	assert.Equal(t, "mail-refused mail is not accepted: no machine has the name letters", string(all[0].Cause)+" "+
		all[0].What)
	assert.Contains(t, all[0].Evidence, "SMTP_HOST is letters in .env:7")
	assert.Equal(t, "part.mail", all[0].Edit[0].Table)

	f = shop(page("/a", "calls bcadd(), which is not loaded"))
	f.Parts[0].Traits.ExtensionOf = func(word string) string { return strings.TrimSuffix(word, "add") + "math" }
	f.Pages[0].Evidence.Parts[0].Traits.Symptoms = []kind.Symptom{kind.When(cause.ExtensionNotLoaded,
		pattern.New(`calls \w+\(\)`), "it calls bcadd()", "add it")}
	assert.Equal(t, "dravit extensions on bcmath --part app", Causes(f)[0].Remedy)

	f = shop(page("/a", "mkdir /home/ada/ferry/var/up"))
	f.Parts[0].Spec.Want.Writable = []string{"var/up"}
	all = Causes(f)
	assert.Empty(t, all[0].Edit)
	assert.Equal(t, []string{"dravit", "start"}, all[0].Fix)
	assert.Equal(t, []string{"/home/ada/ferry/var"}, Paths(all))
	f = shop(page("/a", "open /home/ada/ferry/up/a.txt\n"+
		"PHP Fatal error:  Uncaught Error: x in /home/ada/ferry/a.php:3\n"))
	f.Lacking = map[string]bool{"/home/ada/ferry/up": true}
	f.Lines = map[string]string{"a.php:3": "$view->render('up/a.txt');"}
	assert.EqualValues(t, "file-missing", Causes(f)[0].Cause, "nothing writes there")
	f.Lines["a.php:3"] = "fopen('up/a.txt', 'w');"
	assert.EqualValues(t, "folder-missing", Causes(f)[0].Cause)
	f = shop(page("/a", "No module named 'ferry.tides'"))
	f.TopLevel = []string{"ferry"}
	assert.EqualValues(t, "code-missing", Causes(f)[0].Cause)
}

// A worker that lives, and fails at its jobs.
func TestJobs(t *testing.T) {
	since := time.Unix(900, 0)
	traceback := func(at int64) []logfile.Line {
		var lines []logfile.Line
		for l := range strings.Lines("job\nTraceback (most recent call last):\n  File \"/home/ada/ferry/w.py\", " +
			"line 3, in f\n" +
			"    x()\nValueError: no berth\n") {
			lines = append(lines, logfile.Line{Text: strings.TrimRight(l, "\n"), At: time.Unix(at, 0)})
		}
		return lines
	}
	facts := func(lines ...logfile.Line) Facts {
		f := shop()
		f.Parts[0].Spec.Want.Command = "w"
		f.Parts[0].Status.Since, f.Parts[0].Recent = since, lines
		return f
	}
	assert.Empty(t, Causes(facts(traceback(901)...)), "while it started")
	assert.Empty(t, Causes(facts(logfile.Line{Text: "job done", At: time.Unix(950, 0)})))
	all := Causes(facts(append(traceback(940), traceback(990)...)...))
	require.Len(t, all, 1)
	assert.Equal(t, "application-error part.app", string(all[0].Cause)+" "+all[0].Subject.String())
	assert.Equal(t, "jobs of the worker app fail: ValueError: no berth", all[0].What)
	assert.Equal(t, "w.py:3", all[0].Place)
	assert.Contains(t, all[0].Evidence, "2 times in the last 10 minutes, last 10s ago")
	old := facts(traceback(904)...)
	old.Now = time.Unix(2000, 0)
	assert.Empty(t, Causes(old), "it is no news any more")
}

// Who has the connections that an application lacks is said, and their limit can be raised.
func TestConnectionsOfPages(t *testing.T) {
	f := shop(page("/a", "PDO Too many connections"))
	f.Pages[0].Evidence.Parts[0].Traits.Symptoms = []kind.Symptom{kind.When("connections-used-up",
		pattern.New(`(PDO Too many connections)`), "all are taken: $1", "close some")}
	f.Parts[1].Clients = &Clients{Limit: 20, Setting: "max_connections", Groups: []ClientGroup{
		{Program: "php-fpm", PID: 7, Count: 2}, {Program: "report", PID: 9, Count: 18, Idle: time.Minute}}}
	got := Causes(f)
	require.Len(t, got, 1)
	assert.Equal(t, []stackfile.Change{{Table: "part.db.settings", Key: "max_connections", Value: 40}}, got[0].Edit)
	assert.Contains(t, got[0].Evidence, "part db accepts 20 connections; 20 are in use now")
	assert.Equal(t, "18 of report (pid 9), idle for up to 1m0s", got[0].Evidence[len(got[0].Evidence)-2])
}
