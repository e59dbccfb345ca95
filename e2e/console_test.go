package e2e

import (
	"net/http"
	"net/url"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// The console shows every SQL database of the stack, and changes none unless the stack file says so.
func TestConsole(t *testing.T) {
	w := newWorld(t)
	file := "name = \"harbour\"\n[part.console]\nkind = \"dravit-console\"\n"
	for _, kind := range sqlKinds {
		file += "[part." + kind + "]\nkind = \"" + kind + "\"\n"
	}
	w.write("dravit.toml", strings.Replace(file, "[part.mariadb]", "[part.mariadb]\nmain = true", 1))
	w.must("start")
	w.must("check", "--deep")
	assert.ElementsMatch(t, sqlKinds, planned(t, w.plan(), "console").Uses)
	w.write("old.sql", fleet(150))
	site := w.status().Sites[0].URL
	token := ""
	ask := func(path string) string {
		code, page, _ := get(t, http.MethodGet, site+path, nil)
		require.Equal(t, 200, code, page)
		token = regexp.MustCompile(`name="token" value="(\w+)"`).FindString(page)
		return page
	}
	run := func(part, sql string) (int, string) {
		ask("query")
		form := url.Values{"token": {strings.Split(token, `"`)[3]}, "part": {part}, "sql": {sql}}
		code, page, _ := get(t, http.MethodPost, site+"query", strings.NewReader(form.Encode()), func(r *http.Request) {
			r.Header.Set("Content-Type", "application/x-www-form-urlencoded")
		})
		return code, page
	}
	backslash := map[string]string{"mariadb": "CONCAT('it''s ', CHAR(92), '100%')", "postgres": "'it''s \\100%'",
		"sqlite": "'it''s \\100%'"}
	for _, kind := range sqlKinds {
		w.must("db", "load", "--part", kind, "old.sql")
		w.must("db", "query", "--part", kind, "CREATE UNIQUE INDEX by_n ON boats (n); INSERT INTO boats VALUES (0, "+
			backslash[kind]+")")
		assert.Contains(t, ask("?part="+kind), ">boats</a></td><td class=\"number\">151<", kind)
		page := ask("rows?part=" + kind + "&table=boats&order=n&page=2")
		assert.Contains(t, page, "<td>boat 149</td>", kind)
		assert.NotContains(t, page, "<td>boat 9</td>", kind)
		assert.Contains(
			t,
			ask("rows?part="+kind+"&table=boats&column=name&op=contains&value="+url.QueryEscape(`S \100%`)),
			"rows 1 to 1",
			kind,
		)
		assert.Contains(t, ask("structure?part="+kind+"&table=boats"), "by_n", kind)
		sql := ask("rows.sql?part=" + kind + "&table=boats")
		assert.Contains(t, ask("dump.sql?part="+kind), "boat 149", kind)
		_, page = run(kind, "SELECT COUNT(*) AS n FROM boats")
		assert.Contains(t, page, "<td>151</td>", kind)
		for _, change := range []string{"DELETE FROM boats", "DROP TABLE boats", "CREATE TABLE x (n INTEGER)",
			"SELECT 1; DELETE FROM boats", "COMMIT; DELETE FROM boats"} {
			run(kind, change)
			assert.Equal(t, "151", w.countOf(kind), "%s: %s", kind, change)
		}
		assert.NotContains(t, ask("?part="+kind), ">x</a>", kind)
		w.must("db", "query", "--part", kind, "DELETE FROM boats")
		w.write("exported.sql", sql)
		w.must("db", "query", "--part", kind, sql)
		assert.Equal(t, "151", w.countOf(kind), "what it exports can be loaded")
	}
	w.must("db", "add", "--part", "postgres", "archive")
	assert.Contains(t, ask("?part=postgres&database=archive"), "postgres / archive")

	w.write("dravit.toml", strings.Replace(file, "-console\"", "-console\"\nwrites = true", 1))
	w.must("start")
	for _, kind := range sqlKinds {
		code, _ := run(kind, "DELETE FROM boats WHERE n > 1; DELETE FROM boats WHERE n = 1")
		assert.Equal(t, 200, code, kind)
		assert.Equal(t, "1", w.countOf(kind), kind)
	}
	w.must("check", "--deep")
}

// countOf returns how many boats there are in a part's database.
func (w *world) countOf(part string) string {
	w.t.Helper()
	r := w.must("db", "query", "--part", part, "--csv", "SELECT COUNT(*) AS n FROM boats")
	return strings.TrimPrefix(strings.TrimSpace(r.stdout), "n\n")
}
