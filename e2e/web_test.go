package e2e

import (
	"encoding/xml"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravit/internal/plan"
	"dravit/internal/webrules"
)

// secretNames are files that no web server serves; sourceNames are PHP source that no web server runs or serves.
var (
	secretNames = []string{"dravit.toml", "dravit.toml~", "dravit.local.toml.orig", "index.php~",
		"config.php.save", "old.bak", "a.swp",
		"backup.sql", "BACKUP.SQL.gz", "day.dump", "ferry.sqlite", "ferry.sqlite3", "ferry.db",
		"ferry.db-wal", "x.sql.1.txt"}
	sourceNames = []string{"lib.PHP", "lib.Php", "lib.phtml", "lib.php5", "lib.phps", "lib.phar"}
)

// echo writes what the server told it.
const echo = `<?php
$keys = [
  'REQUEST_METHOD', 'REQUEST_URI', 'SCRIPT_NAME', 'PATH_INFO', 'QUERY_STRING', 'HTTP_HOST', 'SERVER_NAME',
  'SERVER_PORT', 'HTTPS', 'REMOTE_ADDR', 'REQUEST_SCHEME', 'HTTP_AUTHORIZATION', 'CONTENT_TYPE',
  'CONTENT_LENGTH', 'HTTP_PROXY', 'SERVER_PROTOCOL', 'GATEWAY_INTERFACE', 'HTTP_FORWARDED',
  'HTTP_X_FORWARDED_FOR', 'HTTP_X_FORWARDED_HOST', 'HTTP_X_FORWARDED_PROTO', 'HTTP_X_FORWARDED_PORT',
  'HTTP_X_REAL_IP'];
foreach ($keys as $k) echo $k, '=', ($_SERVER[$k] ?? '') ?: '-', "\n";
echo basename(__FILE__), ' ', strlen(file_get_contents('php://input')), "\n";
`

// tableProject writes the project of TestWebServersAnswerAlike.
func (w *world) tableProject(server string) {
	w.write("dravit.toml", fmt.Sprintf("name = \"table\"\n[part.web]\nkind = %q\n[part.app]\nkind = \"php\"\n"+
		"[part.api]\nkind = \"custom\"\ncommand = \"exec php -n -S 127.0.0.1:{port} api.php\"\n[[site]]\n"+
		"name = \"day\"\nroot = \"public\"\napp = \"app\"\n[[site]]\nname = \"api\"\napp = \"api\"\n[[site]]\n"+
		"name = \"files\"\nroot = \"public\"\nexpect = { path = \"/style.css\" }\n", server))
	w.write("api.php", `<?php echo $_SERVER['HTTP_HOST'], ' ', $_SERVER['HTTP_X_FORWARDED_PROTO'], ' ', `+
		`$_SERVER['HTTP_X_FORWARDED_FOR'], ' ', $_SERVER['HTTP_X_FORWARDED_HOST'], ' ', `+
		`$_SERVER['HTTP_X_FORWARDED_PORT'] ?? 'none', ' ', $_SERVER['HTTP_X_REAL_IP'] ?? 'none', ' ', `+
		`$_SERVER['REQUEST_URI'];`)
	w.write("public/index.php", echo)
	w.write("public/about.php", echo)
	w.write("public/style.css", "body {}")
	w.write("public/deep/index.html", "<p>deep</p>")
	w.write("public/deep/data.json", "{}")
	w.write("public/bare/x.txt", "x")
	for _, secret := range []string{".env", ".git/config", "deep/.htpasswd", ".well-known/.git/config"} {
		w.write("public/"+secret, "secret")
	}
	for _, secret := range append(slices.Clone(secretNames), sourceNames...) {
		w.write("public/"+secret, "<?php secret")
		w.write("public/.well-known/"+secret, "<?php secret")
	}
	w.write("public/.well-known/run.php", "<?php secret")
	w.write("public/plain.dbx.txt", "plain")
	w.write("public/sql.txt", "plain")
	w.write("public/.well-known/security.txt", "hello")
}

// answer is the answer of one server to one request: to is Location, with the port as PORT.
type answer struct {
	code     int
	body     string
	sort, to string
}

// answerTo sends a request with headers that a client must not be able to set.
func answerTo(t *testing.T, method, url, path string) answer {
	code, body, head := get(t, method, url+strings.TrimPrefix(path, "/"),
		strings.NewReader(map[string]string{"POST": "name=Ada"}[method]), func(r *http.Request) {
			r.Header.Set("Authorization", "Basic a2VscA==")
			r.Header.Set("Proxy", "http://evil.example")
			r.Header.Set("X-Forwarded-For", "6.6.6.6")
			r.Header.Set("X-Forwarded-Proto", "https")
			r.Header.Set("Forwarded", "for=6.6.6.6")
			r.Header["X_Forwarded_For"] = []string{"7.7.7.7"}
			r.Header["X_Real_IP"] = []string{"7.7.7.7"}
			if method == "POST" {
				r.Header.Set("Content-Type", "application/x-www-form-urlencoded")
			}
		})
	if code >= 400 && code != 502 {
		body = "" // each server has its own words for it
	}
	assert.NotContains(t, body, "secret", path)
	_, port, _ := strings.Cut(strings.TrimSuffix(url, "/"), ".localhost:")
	body = strings.ReplaceAll(body, port, "PORT")
	sort, _, _ := strings.Cut(head.Get("Content-Type"), ";")
	return answer{code, body, sort,
		strings.ReplaceAll(head.Get("Location"), port, "PORT")}
}

// One table of requests, three web servers, the same answers.
func TestWebServersAnswerAlike(t *testing.T) {
	answers := map[string]map[string]answer{}
	for _, server := range []string{"nginx", "dravit-web", "apache"} {
		w := newWorld(t)
		w.tableProject(server)
		w.must("start")
		answers[server] = map[string]answer{}
		for i, s := range w.status().Sites {
			var secrets []string
			for _, name := range append(slices.Clone(secretNames), sourceNames...) {
				secrets = append(secrets, "/"+name, webrules.WellKnown+name)
			}
			for _, path := range append(secrets,
				webrules.WellKnown+"run.php", webrules.WellKnown+".git/config", "/plain.dbx.txt", "/sql.txt",
				"/", "/?a=b&c=%20d", "/about.php", "/about.php/quay/3?x=1", "/sailings/today", "/no.php", "/style.css",
				"/style.css?v=2", "/deep", "/deep/", "/bare/", "/deep/data.json", "/deep/none.json",
				"/.env", "/.git/config", "/deep/.htpasswd", "/%2egit/config", "/deep/../.env",
				"/.well-known/security.txt", "/.dravit/probe", "/a%0ab", "/%2e%2e/%2e%2e/etc/passwd",
			) {
				for _, method := range []string{"GET", "POST"} {
					if method == "POST" && !strings.Contains("/ /about.php /sailings/today", path) {
						continue
					}
					answers[server][fmt.Sprintf("%s %d%s", method, i, path)] = answerTo(t, method, s.URL, path)
				}
			}
		}
		w.must("check")
	}
	require.Len(t, answers["nginx"], 75+3*(4+2*len(secretNames)+2*len(sourceNames)), "every request was asked")
	for _, site := range []string{"0", "2"} { // PHP, and files only
		for _, name := range append(slices.Clone(secretNames), sourceNames...) {
			assert.Equal(t, 404, answers["nginx"]["GET "+site+"/"+name].code, name)
			assert.Equal(t, 404, answers["nginx"]["GET "+site+webrules.WellKnown+name].code, name)
		}
		assert.Equal(t, 200, answers["nginx"]["GET "+site+"/plain.dbx.txt"].code)
		assert.Equal(t, 200, answers["nginx"]["GET "+site+"/sql.txt"].code)
	}
	for request, want := range answers["nginx"] {
		for _, server := range []string{"dravit-web", "apache"} {
			got, request := answers[server][request], server+" "+request
			assert.Equal(t, want.code, got.code, request)
			if want.code < 300 {
				assert.Equal(t, want.body, got.body, request)
				assert.Equal(t, want.sort, got.sort, request)
			}
			bare := func(to string) string {
				return regexp.MustCompile(`^http://\w+\.localhost:PORT`).ReplaceAllString(to, "")
			}
			assert.Equal(t, bare(want.to), bare(got.to), request)
		}
	}
	page := answers["nginx"]["GET 0/about.php/quay/3?x=1"].body
	for _, line := range []string{"SCRIPT_NAME=/about.php", "PATH_INFO=/quay/3", "SERVER_PORT=PORT",
		"HTTP_HOST=day.localhost:PORT", "REMOTE_ADDR=127.0.0.1", "REQUEST_SCHEME=http", "HTTPS=-",
		"HTTP_AUTHORIZATION=Basic a2VscA==", "HTTP_PROXY=-",
		"HTTP_FORWARDED=-", "HTTP_X_FORWARDED_FOR=-", "HTTP_X_FORWARDED_HOST=-", "HTTP_X_FORWARDED_PROTO=-",
		"HTTP_X_FORWARDED_PORT=-", "HTTP_X_REAL_IP=-"} {
		assert.Contains(t, page, line)
	}
	assert.Equal(t, "api.localhost:PORT http 127.0.0.1 api.localhost:PORT none none /sailings/today",
		answers["nginx"]["GET 1/sailings/today"].body, "what a visitor claims is replaced by what is true")
}

// The gateway lists the sites, but not under a name that a foreign web page can use.
func TestGateway(t *testing.T) {
	w := newWorld(t)
	w.builtin()
	w.must("start")
	s := w.status()
	port := strings.Split(strings.TrimSuffix(s.Sites[0].URL, "/"), ":")[2]
	ask := func(host string) (int, string) {
		code, body, _ := get(t, "GET", "http://127.0.0.1:"+port+"/", nil, func(r *http.Request) { r.Host = host })
		return code, body
	}
	code, body := ask("night.localhost")
	assert.Equal(t, 200, code)
	assert.Contains(t, body, "Night boat")
	code, _ = ask("NIGHT.localhost.:" + port)
	assert.Equal(t, 200, code, "names know no case, and may end with a dot")
	code, body = ask("other.localhost")
	assert.Equal(t, 404, code)
	assert.Contains(t, body, "No site is named other.localhost")
	assert.Contains(t, body, "night.localhost")
	code, body = ask("rebound.example")
	assert.Equal(t, 404, code)
	assert.NotContains(t, body, "night.localhost")
	_, body = ask("<script>alert(1)</script>.localhost")
	assert.NotContains(t, body, "<script>alert")
	// If a part is stopped, the page says which stack it is, and what to type.
	w.must("stop", "web")
	code, body = ask("night.localhost")
	assert.Equal(t, 502, code)
	assert.Contains(t, body, "dravit start --stack night-boat")
	r := w.dravit("check")
	assert.Equal(t, 1, r.code)
	assert.Contains(t, r.stdout, "stopped")
	w.must("start")
	code, _ = ask("night.localhost")
	assert.Equal(t, 200, code)
}

// A site answers under its aliases and wildcards, with the name that the client used. A site's own name goes before a
// wildcard.
func TestAliases(t *testing.T) {
	for _, server := range []string{"nginx", "dravit-web", "apache"} {
		w := newWorld(t)
		w.write("dravit.toml", fmt.Sprintf(`name = "names"
[part.web]
kind = %q
[part.app]
kind = "php"
[[site]]
name = "day"
aliases = ["www.day", "tide", "*.quay"]
app = "app"
[[site]]
name = "night"
aliases = ["west.quay"]
root = "night"
`, server))
		w.write("public/index.php", `<?php echo "day ", $_SERVER["HTTP_HOST"], " ", $_SERVER["SERVER_NAME"];`)
		w.write("night/index.html", "night")
		w.must("start")
		url := w.status().Sites[0].URL
		_, port, _ := strings.Cut(url, ".localhost:")
		port = strings.TrimSuffix(port, "/")
		for host, want := range map[string]string{"day": "day", "www.day": "day", "tide": "day", "east.quay": "day",
			"a.b.quay": "day", "night": "night", "west.quay": "night"} {
			code, body, _ := get(t, "GET", "http://"+strings.ToUpper(host[:1])+host[1:]+".localhost:"+port+"/", nil)
			assert.Equal(t, 200, code, "%s %s", server, host)
			if want == "day" {
				want = "day " + host + ".localhost:" + port + " " + host + ".localhost"
			}
			assert.Equal(t, want, body, "%s %s", server, host)
		}
		for _, host := range []string{"quay", "www.night", "east.tide"} {
			code, body, _ := get(t, "GET", "http://"+host+".localhost:"+port+"/", nil)
			assert.Equal(t, 404, code, host)
			assert.Contains(t, body, "No site is named")
		}
		w.must("check")
		assert.Contains(t, w.must("plan").stdout, "*.quay.localhost")
	}
	// A second folder with the same names gets other names.
	w := newWorld(t)
	w.write("dravit.toml", "")
	for _, dir := range []string{"one", "two"} {
		w.write(dir+"/dravit.toml",
			"name = \"names\"\n[[site]]\nname = \"day\"\naliases = [\"*.quay\"]\nroot = \".\"\n")
		w.write(dir+"/index.html", dir)
		w.must("-C", dir, "start")
	}
	var p plan.Plan
	w.json(&p, "-C", "two", "plan")
	assert.Equal(t, []string{"*.quay-2.localhost"}, p.Sites[0].Aliases)
	_, body, _ := get(t, "GET", strings.Replace(p.Sites[0].URL, "day-2", "east.quay-2", 1), nil)
	assert.Equal(t, "two", body)
}

// check --trace follows one request from the name to the stores, with the versions that answered, and names the first
// leg that fails.
func TestCheckTrace(t *testing.T) {
	w := newWorld(t)
	w.real()
	w.must("start")
	type leg struct {
		Leg, Who, Version, Got string
		Holds                  *bool
		MS                     float64
	}
	var trace struct {
		Answers bool
		MS      float64
		Legs    []leg
	}
	w.json(&trace, "check", "--trace", "day")
	assert.True(t, trace.Answers)
	var way []string
	sum := 0.0
	for _, l := range trace.Legs {
		way = append(way, l.Leg+" "+l.Who)
		require.NotNil(t, l.Holds, l.Leg)
		if l.Leg != "name" {
			assert.True(t, *l.Holds, l.Leg)
			sum += l.MS
		}
	}
	assert.Equal(t,
		[]string{"name day.localhost", "gateway gateway", "server web", "runtime app", "store db", "store seats"}, way)
	assert.InDelta(t, trace.MS, sum, trace.MS/2+1, "the legs make up the whole")
	s := w.status()
	for i, part := range map[int]string{3: "app", 4: "db", 5: "seats"} {
		assert.True(t, strings.HasPrefix(trace.Legs[i].Version, s.part(t, part).Version), "%s: %s",
			part, trace.Legs[i].Version)
	}
	w.must("stop", "seats")
	assert.Equal(t, 1, w.json(&trace, "check", "--trace", "day").code)
	assert.False(t, *trace.Legs[5].Holds)
	assert.Contains(t, trace.Legs[5].Got, "refused")
	assert.Contains(t, w.dravit("check", "--trace", "day").stdout, "dravit diagnose says why seats")
	w.must("stop", "app")
	assert.Equal(t, 1, w.json(&trace, "check", "--trace", "day").code)
	assert.True(t, *trace.Legs[2].Holds)
	assert.False(t, *trace.Legs[3].Holds)
	assert.Nil(t, trace.Legs[4].Holds, "not asked")
	w.must("stop", "web")
	assert.Equal(t, 1, w.json(&trace, "check", "--trace", "day").code)
	assert.False(t, *trace.Legs[2].Holds)
	assert.Contains(t, w.dravit("check", "--trace", "night").stderr, "its sites are day")
}

// A check of named parts asks only these. A JUnit report holds every rung.
func TestCheckOfNamedPartsAndReport(t *testing.T) {
	w := newWorld(t)
	w.real()
	w.must("start")
	var check struct {
		Parts, Sites []struct{ Name string }
	}
	w.json(&check, "check", "db", "day")
	require.Len(t, check.Parts, 1)
	require.Len(t, check.Sites, 1)
	r := w.dravit("check", "tide")
	assert.Equal(t, 2, r.code)
	report := filepath.Join(w.dir, "check.xml")
	w.must("stop", "seats")
	assert.Equal(t, 1, w.dravit("check", "--junit", report).code)
	text, err := os.ReadFile(report)
	require.NoError(t, err)
	var suites struct {
		Suites []struct {
			Name            string `xml:"name,attr"`
			Tests, Failures int    `xml:",attr"`
			Cases           []struct {
				Name    string    `xml:"name,attr"`
				Failure *struct{} `xml:"failure"`
				Skipped *struct{} `xml:"skipped"`
			} `xml:"testcase"`
		} `xml:"testsuite"`
	}
	require.NoError(t, xml.Unmarshal(text, &suites))
	require.Len(t, suites.Suites, 5)
	for _, x := range suites.Suites {
		if x.Name == "day-boat.part.seats" {
			require.Len(t, x.Cases, 5)
			assert.NotNil(t, x.Cases[0].Failure)
			assert.NotNil(t, x.Cases[1].Skipped, "not asked")
		}
	}
}

// The deep checks hold on every kind that has any, leave nothing behind, and fail if what they check is broken.
func TestDeepCheck(t *testing.T) {
	type deepCheck struct {
		Subject string
		Check   string `json:"deed"`
		Got     string
		Holds   *bool
	}
	var check struct {
		Answers    bool
		DeepChecks []deepCheck `json:"deeds"`
	}
	deepChecks := func(w *world) (all []string) {
		w.t.Helper()
		w.json(&check, "check", "--deep")
		for _, d := range check.DeepChecks {
			require.NotNil(w.t, d.Holds)
			assert.True(w.t, *d.Holds, "%s %s: %s", d.Subject, d.Check, d.Got)
			all = append(all, d.Subject+" "+d.Check)
		}
		assert.True(w.t, check.Answers)
		return all
	}
	for _, server := range []string{"nginx", "dravit-web", "apache"} {
		w := newWorld(t)
		w.write("dravit.toml", strings.Replace(strings.Replace(real, `kind = "nginx"`, fmt.Sprintf("kind = %q", server),
			1), "[part.db]\nkind = \"mariadb\"",
			"[part.records]\nkind = \"postgres\"\n[part.db]\nkind = \"mariadb\"\nmain = true", 1))
		w.write("public/index.php", "<h1>Day boat</h1>")
		w.must("start")
		assert.Equal(t, []string{"part.app extensions", "part.db stores", "part.records stores", "part.seats stores",
			"site.day uploads"}, deepChecks(w))
		if server != "nginx" {
			continue
		}
		for _, list := range []string{
			`mariadb -h 127.0.0.1 -P $DB_PORT -u $DB_USER -p$DB_PASSWORD $DB_DATABASE -Ne "show ` +
				`tables like '%dravit%'"`,
			`psql -At "$RECORDS_URL" -c "select tablename from pg_tables where tablename like '%dravit%'"`,
			`redis-cli --no-auth-warning -a "$REDIS_PASSWORD" -p "$REDIS_PORT" --scan --pattern "dravit:proof*"`,
		} {
			r := w.must("run", "--", "sh", "-c", list)
			assert.Empty(t, strings.TrimSpace(r.stdout), list)
		}
		// An upload that PHP does not take whole.
		w.write("dravit.toml",
			strings.Replace(real, "extensions = ", "settings = { post_max_size = \"1M\" }\nextensions = ", 1))
		w.must("start")
		assert.Equal(t, 0, w.dravit("check").code)
	}
	w := newWorld(t)
	w.builtin()
	w.must("start")
	assert.Equal(t, []string{"part.mail delivers", "part.seats stores", "part.store stores"}, deepChecks(w))
	left, err := filepath.Glob(w.stackPath("data", "mail", "*.eml"))
	require.NoError(t, err)
	assert.Empty(t, left, "the proof is taken out of the inbox")
	report := filepath.Join(w.dir, "deep.xml")
	w.must("check", "--deep", "--junit", report)
	text, err := os.ReadFile(report)
	require.NoError(t, err)
	assert.Contains(t, string(text), `classname="night-boat.part.mail.deep" name="delivers"`)
	assert.Contains(t, w.must("check", "--deep").stdout, "delivers")
}

// check --watch fits the window, also at 80x24, and restores the terminal. Without a terminal it writes one line for
// each check.
func TestWatch(t *testing.T) {
	w := newWorld(t)
	w.builtin()
	w.must("start")
	watch := w.command(t.Context())
	watch.Path, watch.Args = "/usr/bin/script", []string{"script", "-qec",
		"stty rows 24 cols 80; timeout -s INT 3 " + program + " check --watch=300ms", "/dev/null"}
	watch.Env = append(watch.Env, "TERM=xterm")
	out := finish(t, watch).stdout
	assert.True(t, strings.Contains(out, "\x1b[?1049h") && strings.Contains(out, "\x1b[?1049l"),
		"another screen, and back")
	assert.True(t, strings.Contains(out, "\x1b[?25l") && strings.Contains(out, "\x1b[?25h"),
		"the cursor goes, and comes back")
	assert.Greater(t, strings.Count(out, "6 of 6 answer"), 3, "several looks")
	last := out[strings.LastIndex(out, "\x1b[H"):]
	plain := regexp.MustCompile("\x1b\\[[0-9;?]*[A-Za-z]").ReplaceAllString(last, "")
	for _, line := range strings.Split(plain, "\r\n") {
		assert.LessOrEqual(t, len([]rune(line)), 80, line)
	}
	assert.True(t, strings.ContainsAny(plain, "▁▂▃▄▅▆▇█"), plain)
	lines := w.command(t.Context())
	lines.Path, lines.Args = "/usr/bin/timeout",
		[]string{"timeout", "-s", "INT", "2", program, "check", "--watch=300ms"}
	out = finish(t, lines).stdout
	assert.Greater(t, strings.Count(out, "night-boat  answers"), 2, out)
	assert.NotContains(t, out, "\x1b")
	assert.Equal(t, 2, w.dravit("check", "--watch=1ms").code)
}
