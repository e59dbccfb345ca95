package dravitconsole

import (
	"io"
	"net/http/httptest"
	"net/url"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravit/internal/kind"
	"dravit/internal/kind/sqlite"
)

const host = "console.ferry.localhost"

// pages returns the pages of a console for an SQLite database, and a function that asks them.
func pages(t *testing.T, writes bool) func(method, path string, form url.Values, head ...string) (int, string) {
	t.Helper()
	k := sqlite.New().(kind.Database)
	p := kind.Part{Name: "notes", Kind: "sqlite", Version: "3", Data: filepath.Join(t.TempDir()), Database: "ferry"}
	require.NoError(t, k.Fill(t.Context(), p, p.Data))
	require.NoError(
		t,
		k.Query(t.Context(), p, `CREATE TABLE "odd ""name"" & /" (id INTEGER PRIMARY KEY, note TEXT, x BLOB);
		INSERT INTO "odd ""name"" & /" VALUES (1, '<script>alert(1)</script>', NULL), (2, 'it''s 100% salt', x'00ff');
		CREATE INDEX by_note ON "odd ""name"" & /" (note);
		CREATE TABLE many (n INTEGER PRIMARY KEY, word TEXT);
		INSERT INTO many WITH RECURSIVE c(n) AS (SELECT 1 UNION ALL SELECT n + 1 FROM c WHERE n < 2500)
			SELECT n, 'word ' || n FROM c;
		CREATE VIEW few AS SELECT n FROM many WHERE n < 4`, kind.Rows{}),
	)
	h, err := handler(config{Host: host, Token: "secret", Writes: writes, Databases: []kind.Part{p}}, kind.List{k})
	require.NoError(t, err)
	return func(method, path string, form url.Values, head ...string) (int, string) {
		r := httptest.NewRequest(method, "http://"+host+path, strings.NewReader(form.Encode()))
		if form != nil {
			r.Header.Set("Content-Type", "application/x-www-form-urlencoded")
		}
		for i := 0; i < len(head); i += 2 {
			if head[i] == "Host" {
				r.Host = head[i+1]
			}
			r.Header.Set(head[i], head[i+1])
		}
		w := httptest.NewRecorder()
		h.ServeHTTP(w, r)
		body, err := io.ReadAll(w.Body)
		require.NoError(t, err)
		return w.Code, string(body)
	}
}

func TestTablesAndRows(t *testing.T) {
	ask := pages(t, false)
	odd := "table=" + url.QueryEscape(`odd "name" & /`)
	for _, c := range []struct {
		path   string
		code   int
		has    []string
		hasNot []string
	}{
		{"/", 200, []string{"odd &#34;name&#34; &amp; /", ">2500<", ">view<"}, nil},
		{"/rows?" + odd, 200, []string{"&lt;script&gt;", "it&#39;s 100% salt", `class="null">NULL`, "2 bytes: 00ff",
			"rows 1 to 2"}, []string{"<script>", "later rows"}},
		{"/rows?column=note&op=contains&value=100%25&" + odd, 200, []string{"100% salt", "rows 1 to 1"}, nil},
		{"/rows?column=note&op=contains&value=1_0&" + odd, 200, []string{"No rows."}, nil},
		{"/rows?column=x&op=is+NULL&" + odd, 200, []string{"rows 1 to 1"}, nil},
		{"/rows?column=note&op=%3D&value=%27%20OR%201%3D1&" + odd, 200, []string{"No rows."}, nil},
		{"/rows?table=many", 200, []string{">word 1<", ">word 100<", "later rows"}, []string{">word 101<", "earlier"}},
		{"/rows?table=many&page=25", 200, []string{">word 2500<", "earlier rows"}, []string{"later rows"}},
		{"/rows?table=many&order=n&down=1", 200, []string{">word 2500<", "▼"}, []string{">word 1<"}},
		{"/rows?table=few", 200, []string{"rows 1 to 3"}, nil},
		{"/structure?" + odd, 200, []string{"by_note", "primary", "BLOB"}, nil},
		{"/rows?table=nowhere", 404, []string{"table nowhere"}, nil},
		{"/rows?table=many&order=n%3BDROP", 404, []string{"column n;DROP"}, nil},
		{"/rows?table=many&column=n&op=LIKE&value=1", 404, []string{"comparison LIKE"}, nil},
		{"/?part=nobody", 404, []string{"database nobody"}, nil},
		{"/?part=notes&database=other", 404, []string{"database other"}, nil},
	} {
		code, body := ask("GET", c.path, nil)
		assert.Equal(t, c.code, code, c.path)
		for _, text := range c.has {
			assert.Contains(t, body, text, c.path)
		}
		for _, text := range c.hasNot {
			assert.NotContains(t, body, text, c.path)
		}
	}
}

func TestExports(t *testing.T) {
	ask := pages(t, false)
	odd := url.QueryEscape(`odd "name" & /`)
	_, body := ask("GET", "/rows.csv?table="+odd, nil)
	assert.Equal(t, "id,note,x\n1,<script>alert(1)</script>,\n2,it's 100% salt,\x00\xff\n", body)
	_, body = ask("GET", "/rows.sql?table="+odd+"&column=id&op=%3D&value=2", nil)
	assert.Equal(
		t,
		`INSERT INTO "odd ""name"" & /" ("id", "note", "x") VALUES (2, 'it''s 100% salt', X'00FF');`+"\n",
		body,
	)
	_, body = ask("GET", "/rows.csv?table=many", nil)
	assert.Equal(t, 2501, strings.Count(body, "\n"), "an export has all rows")
	code, body := ask("GET", "/dump.sql", nil)
	assert.Equal(t, 200, code)
	assert.Contains(t, body, "CREATE TABLE many")
	code, _ = ask("GET", "/rows.csv?table=nowhere", nil)
	assert.Equal(t, 404, code)
}

func TestQueries(t *testing.T) {
	for _, writes := range []bool{false, true} {
		ask := pages(t, writes)
		run := func(sql string) (int, string) {
			return ask("POST", "/query", url.Values{"token": {"secret"}, "sql": {sql}})
		}
		_, body := run("SELECT n, word FROM many ORDER BY n;")
		assert.Contains(t, body, "the first 1000 rows")
		_, body = ask("POST", "/query.csv", url.Values{"token": {"secret"}, "sql": {"SELECT n FROM many WHERE n < 3"}})
		assert.Equal(t, "n\n1\n2\n", body)
		code, body := run("SELECT * FROM nowhere")
		assert.Equal(t, 502, code)
		assert.Contains(t, body, "no such table: nowhere")
		code, _ = run("DELETE FROM many")
		_, body = run("SELECT COUNT(*) AS n FROM many")
		if writes {
			assert.Equal(t, 200, code)
			assert.Contains(t, body, "<td>0</td>")
		} else {
			assert.Equal(t, 502, code)
			assert.Contains(t, body, "<td>2500</td>", "it only reads")
			run("PRAGMA query_only = 0; DELETE FROM many")
			_, body = run("SELECT COUNT(*) AS n FROM many")
			assert.Contains(t, body, "<td>2500</td>")
		}
	}
}

// Pages of other names, and forms of other sites, get nothing.
func TestStrangers(t *testing.T) {
	ask := pages(t, true)
	form := url.Values{"token": {"secret"}, "sql": {"SELECT 1"}}
	code, _ := ask("GET", "/", nil, "Host", "evil.example")
	assert.Equal(t, 404, code)
	code, _ = ask("POST", "/query", form, "Sec-Fetch-Site", "cross-site")
	assert.Equal(t, 403, code)
	code, _ = ask("POST", "/query", form, "Origin", "http://ferry.localhost")
	assert.Equal(t, 403, code)
	code, _ = ask("POST", "/query", url.Values{"token": {"guess"}, "sql": {"SELECT 1"}})
	assert.Equal(t, 403, code)
	code, _ = ask("POST", "/query?token=secret", url.Values{"sql": {"SELECT 1"}})
	assert.Equal(t, 403, code, "an address is no place for a token")
	code, _ = ask("POST", "/query", form, "Origin", "http://"+host)
	assert.Equal(t, 200, code)
}
