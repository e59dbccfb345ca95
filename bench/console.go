package main

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
)

// console measures the console's first page of a table with a million rows, through the gateway, against the database's
// own client with the same query.
func (b *bench) console() error {
	dir := filepath.Join(b.dir, "million")
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return err
	}
	text := "name = \"million\"\n[part.console]\nkind = \"dravit-console\"\n"
	series := map[string]string{
		"mariadb":  "SELECT seq, CONCAT('crate ', seq) FROM seq_1_to_1000000",
		"postgres": "SELECT n, 'crate ' || n FROM generate_series(1, 1000000) n",
		"sqlite": "WITH RECURSIVE c(n) AS (SELECT 1 UNION ALL SELECT n + 1 FROM c WHERE n < 1000000) " +
			"SELECT n, 'crate ' || n FROM c",
	}
	for kind := range series {
		text += "[part." + kind + "]\nkind = \"" + kind + "\"\n"
	}
	text = strings.Replace(text, "[part.postgres]", "[part.postgres]\nmain = true", 1)
	if err := os.WriteFile(filepath.Join(dir, "dravit.toml"), []byte(text), 0o644); err != nil {
		return err
	}
	defer func() { _ = b.command("stop", "-C", dir) }()
	if err := b.command("start", "-C", dir); err != nil {
		return err
	}
	site, err := b.siteOf(dir)
	if err != nil {
		return err
	}
	for kind, rows := range series {
		sql := "CREATE TABLE cargo (n INTEGER PRIMARY KEY, what VARCHAR(40)); INSERT INTO cargo " + rows
		if err := b.command("db", "query", sql, "--part", kind, "-C", dir); err != nil {
			return err
		}
		client := map[string]string{
			"mariadb": "mariadb", "postgres": "psql", "sqlite": `sqlite3 "$SQLITE_DATABASE"`,
		}[kind]
		var pages, clients []float64
		for range max(5, b.rounds) {
			ms, err := timed(func() error { return fetch(site + "rows?table=cargo&part=" + kind) })
			if err != nil {
				return err
			}
			pages = append(pages, ms)
			ms, err = timed(func() error {
				return b.command("run", "-C", dir, "--", "sh", "-c",
					"echo 'SELECT * FROM cargo ORDER BY n LIMIT 101;' | "+client)
			})
			if err != nil {
				return err
			}
			clients = append(clients, ms)
		}
		fmt.Printf("%-44s %7.0f ms   %-34s %7.0f ms   ratio %.2f   aim 100 ms\n", "console, a million rows, "+kind,
			median(pages), "its client, with dravit run", median(clients), median(pages)/median(clients))
	}
	return nil
}

// siteOf returns the address of a stack's first site.
func (b *bench) siteOf(dir string) (string, error) {
	cmd := exec.CommandContext(b.ctx, b.dravit, "status", "--json", "-C", dir)
	out, err := cmd.Output()
	if err != nil {
		return "", err
	}
	var status struct{ Sites []struct{ URL string } }
	if err := json.NewDecoder(bytes.NewReader(out)).Decode(&status); err != nil || len(status.Sites) == 0 {
		return "", fmt.Errorf("the stack has no site: %w", err)
	}
	return status.Sites[0].URL, nil
}

// fetch gets a page.
func fetch(url string) error {
	req, err := http.NewRequest(http.MethodGet, url, nil)
	if err != nil {
		return err
	}
	req.Host = req.URL.Host
	req.URL.Host = "127.0.0.1:" + req.URL.Port() // not every resolver knows names below localhost
	resp, err := http.DefaultClient.Do(req)
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	text, err := io.ReadAll(resp.Body)
	if err == nil && (resp.StatusCode != http.StatusOK || !bytes.Contains(text, []byte("crate 100<"))) {
		err = fmt.Errorf("%s: %s", url, resp.Status)
	}
	return err
}
