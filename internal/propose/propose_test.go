package propose

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravit/internal/kind"
	"dravit/internal/kind/all"
	"dravit/internal/stackfile"
)

// folder makes a folder of that name with files in it. A name that ends with / is a folder.
func folder(t *testing.T, name string, files map[string]string) string {
	t.Helper()
	dir := filepath.Join(t.TempDir(), name)
	require.NoError(t, os.MkdirAll(dir, 0o755))
	for file, text := range files {
		full := filepath.Join(dir, file)
		require.NoError(t, os.MkdirAll(filepath.Dir(full), 0o755))
		if strings.HasSuffix(file, "/") {
			require.NoError(t, os.MkdirAll(full, 0o755))
			continue
		}
		require.NoError(t, os.WriteFile(full, []byte(text), 0o644))
	}
	return dir
}

// machine has what Debian's PHP brings, and the names that two databases export.
var machine = Machine{
	Extensions: []string{"mysqli", "pdo_mysql", "mbstring", "redis", "intl"},
	Exports:    map[string][]string{"mariadb": {"DB_HOST", "DATABASE_URL"}, "redis": {"REDIS_URL"}},
	Home:       "/home/ada",
	Kinds:      all.Kinds(),
}

// proposed returns the proposal for a folder and the stack file that it reads as: whatever is in the folder, the text
// is a faultless stack file.
func proposed(t *testing.T, dir string) (*Proposal, *stackfile.File) {
	t.Helper()
	p, err := Look(t.Context(), dir, machine)
	require.NoError(t, err)
	into := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(into, stackfile.Name), []byte(p.Text()), 0o644))
	f, err := stackfile.Read(into, all.Kinds().Vocabulary())
	require.NoError(t, err, p.Text())
	return p, f
}

// exampleOf makes the smallest folder of a shape: its files, and a manifest that names its first package.
func exampleOf(s shape) map[string]string {
	files := map[string]string{}
	for _, f := range s.Files {
		f, _, _ = strings.Cut(f, "|")
		files[f] = "\n"
	}
	if len(s.Needs) == 0 {
		return files
	}
	ecosystem, name, _ := strings.Cut(s.Needs[0], ":")
	manifest := map[string][2]string{
		"composer": {"composer.json", `{"require": {"NAME": "*"}}`},
		"npm":      {"package.json", `{"dependencies": {"NAME": "*"}, "scripts": {"start": "node server.js"}}`},
		"python":   {"requirements.txt", "NAME>=1\n"},
		"gem":      {"Gemfile", "gem 'NAME'\n"},
		"maven":    {"pom.xml", "<artifactId>NAME</artifactId>"},
		"nuget":    {"office.csproj", `<Project Sdk="NAME">`},
	}[ecosystem]
	if strings.HasPrefix(s.Files0(), "build.gradle") {
		manifest = [2]string{"build.gradle", `plugins { id 'NAME' }`}
	}
	files[manifest[0]] = strings.ReplaceAll(manifest[1], "NAME", name)
	return files
}

// Files0 is the first pattern of the shape's files, or "".
func (s shape) Files0() string {
	if len(s.Files) == 0 {
		return ""
	}
	return s.Files[0]
}

// Every row of the table tells the folder that it describes, and not one that comes before it.
func TestShapes(t *testing.T) {
	assert.GreaterOrEqual(t, len(shapes()), 35)
	for _, s := range shapes() {
		t.Run(s.Name, func(t *testing.T) {
			dir := folder(t, "office", exampleOf(s))
			p, f := proposed(t, dir)
			assert.Equal(t, s.Tables, Suggest(t.Context(), dir, []string{"."}, all.Kinds())["."].Tables)
			assert.Equal(t, s.Name, p.Shape)
			app := f.Parts["app"]
			require.Equal(t, stackfile.Texts{s.Kind}, app.Kind)
			assert.Equal(t, s.Kind == "php", app.Command == "", "a server of its own has a command")
			assert.NotContains(t, app.Command, "{module}")
			assert.Equal(t, s.Writable, app.Writable)
			require.Len(t, f.Sites, 1)
			assert.Equal(t, "office", f.Sites[0].Name)
			if s.Tables != "" {
				assert.Equal(t, s.Tables, f.Tasks[len(f.Tasks)-1].Command)
			}
			if s.Database != "" {
				assert.Equal(t, stackfile.Texts{s.Database}, f.Parts["db"].Kind)
			}
		})
	}
}

// Each client package is of a registry that a manifest names, and of one kind only.
func TestSigns(t *testing.T) {
	known := map[string]string{}
	for _, k := range all.Kinds() {
		traits := k.Traits()
		for _, name := range traits.Signs.Packages {
			registry, _, _ := strings.Cut(name, ":")
			assert.Contains(t, []string{"composer", "npm", "python", "gem", "go", "maven", "nuget"}, registry, name)
			assert.Empty(t, known[name], name)
			known[name] = traits.Name
		}
		if traits.Signs.Instead != "" {
			assert.NotNil(t, all.Kinds().Of(traits.Signs.Instead).Traits().Serve, "it is built in")
		}
	}
}

// lamp is a kind that nobody has written: an identity server that keeps accounts.
type lamp struct{ kind.StoreDefaults }

var lampTraits = kind.Traits{Name: "lamp", Role: "identity", Signs: kind.Signs{Part: "keys", Names: []string{"lamp"},
	Packages: []string{"npm:lamp-client"}, Variables: []string{"LAMP"}}}

func (lamp) Traits() *kind.Traits                  { return &lampTraits }
func (lamp) Needs(stackfile.PartConfig) kind.Needs { return kind.Needs{Port: true, PortBase: 19000} }
func (lamp) Command(kind.Part) kind.Command        { return kind.Command{Path: "/usr/bin/lamp"} }
func (lamp) Ladder(kind.Part) []kind.Rung          { return nil }

// A kind of a sort that nobody thought of is proposed by what it says of itself alone.
func TestKindOfTomorrow(t *testing.T) {
	with := machine
	with.Kinds = append(slices.Clone(all.Kinds()), lamp{})
	for name, files := range map[string]map[string]string{
		"an image":   {"compose.yml": "services:\n  auth:\n    image: quay.example/lamp:3\n"},
		"a package":  {"package-lock.json": "{}"},
		"an address": {".env": "AUTH_URL=lamp://127.0.0.1:9000\n"},
	} {
		files["package.json"] = `{"scripts": {"start": "node server.js"}, "dependencies": {"express": "4"}}`
		files["server.js"] = `require("express")(); process.env.LAMP_HOST`
		if name == "a package" {
			files["package.json"] = strings.Replace(files["package.json"], `"express"`,
				`"lamp-client": "1", "express"`, 1)
		}
		p, err := Look(t.Context(), folder(t, "ferry", files), with)
		require.NoError(t, err)
		assert.Contains(t, p.Text(), "[part.keys]\nkind = \"lamp\"", name)
		assert.Contains(t, p.Text(), "{keys.host}", name)
	}
}

// An image that goes with a server is none.
func TestNamesOfImages(t *testing.T) {
	s := readSigns(all.Kinds())
	for image, want := range map[string]string{"postgres": "postgres", "postgresql": "postgres",
		"mysql-server": "mariadb", "redis-stack-server": "redis", "redis-commander": "", "postgres-exporter": "",
		"phpmyadmin": "", "nginx": "", "valkey": "redis", "mailer": "",
	} {
		assert.Equal(t, want, s.named(image), image)
	}
}

// Code and manifests go before configuration, and that before what is usual; what loses is named.
func TestDatabaseByEvidence(t *testing.T) {
	for name, c := range map[string]struct {
		files      map[string]string
		kind, note string
		certainty  Certainty
	}{
		"driver before configuration": {map[string]string{"requirements.txt": "psycopg2-binary\n", "app.py": "",
			"compose.yaml": "services:\n  db:\n    image: mysql:8\n"}, "postgres",
			"the database may be mariadb, too: compose.yaml:3 runs mysql", Certain},
		"configuration": {map[string]string{"package.json": `{"scripts": {"start": "node x"}}`,
			".env.example": "DATABASE_URL=postgresql://ada:tern@db/x\n"}, "postgres", "", Likely},
		"commented out": {map[string]string{"package.json": `{"scripts": {"start": "node x"}}`,
			"compose.yaml": "#   image: mysql:8\n    image: postgres:16\n"}, "postgres", "", Likely},
		"two drivers": {map[string]string{"requirements.txt": "psycopg2\nmysqlclient\n", "app.py": ""}, "mariadb",
			"the database may be postgres, too: requirements.txt:1 requires psycopg2", Unsure},
		"for development only": {map[string]string{"package.json": `{"scripts": {"start": "node x"},
			"dependencies": {"pg": "8"}, "devDependencies": {"sqlite3": "5"}}`}, "postgres", "", Certain},
	} {
		t.Run(name, func(t *testing.T) {
			p, f := proposed(t, folder(t, "office", c.files))
			assert.Equal(t, stackfile.Texts{c.kind}, f.Parts["db"].Kind)
			assert.Equal(t, c.certainty, p.table("part.db").Lines[0].Certainty)
			if c.note != "" {
				assert.Contains(t, p.Notes, c.note)
			}
			assert.NotContains(t, p.Text(), "tern", "no password of a file")
		})
	}
}

// The user is asked what the folder leaves open, and nothing else.
func TestQuestion(t *testing.T) {
	two := folder(t, "office", map[string]string{"requirements.txt": "psycopg2\nmysqlclient\n", "app.py": "",
		".python-version": "3.11\n"})
	asked := machine
	asked.Choose = func(_ string, options []string) string {
		assert.Equal(t, []string{"mariadb", "postgres"}, options)
		return "postgres"
	}
	p, err := Look(t.Context(), two, asked)
	require.NoError(t, err)
	assert.Contains(t, p.Text(), "kind = \"postgres\"")
	assert.Contains(t, p.Text(), "# requirements.txt:1 requires psycopg2; your choice\n")
	assert.Contains(t, p.Text(), "# .python-version demands python 3.11, which plan reads there")
	asked.Choose = func(string, []string) string { t.Error("nothing is open"); return "" }
	one := folder(t, "office", map[string]string{"requirements.txt": "psycopg2\n", "app.py": ""})
	_, err = Look(t.Context(), one, asked)
	require.NoError(t, err)
}

// Extensions that the code calls are needed; those that it checks for are wishes, and alternatives are one need.
func TestExtensionsOfCode(t *testing.T) {
	p, f := proposed(t, folder(t, "office", map[string]string{
		"index.php":      "<?php mb_strlen('x'); gmp_add(1, 2); bcadd(1, 2); strlen('x'); helper();",
		"lib/a.php":      "<?php if (function_exists('intl_get_error_code')) { idn_to_ascii('x'); } gmp_add(1, 2);",
		"lib/b.php":      "<?php function curl_init() {} curl_init(); class Redis {} new Redis;",
		"vendor/x/y.php": "<?php ldap_connect();",
		"tests/z.php":    "<?php imap_open();",
		"composer.json":  `{"require": {"ext-zip": "*", "php": ">=8.1"}}`,
		"lib/db.php": "<?php $db = new mysqli(getenv('TIDE_DB_HOST'), getenv('TIDE_DB_PASS'), " +
			"getenv('DB_HOST'));",
		"public/robots.txt": "",
	}))
	assert.Equal(t, []string{"gmp", "intl", "mbstring", "mysqli", "zip"}, f.Parts["app"].Extensions)
	assert.Equal(t, stackfile.Texts{"mariadb"}, f.Parts["db"].Kind)
	assert.NotContains(t, f.Parts, "cache", "the class is the project's own")
	assert.Contains(t, p.Text(), "lib/a.php:1 intl: calls idn_to_ascii(), if it is there")
	assert.Contains(t, p.Text(), "composer.json:1 zip: requires ext-zip")
	assert.Contains(t, p.Text(), "would also use these extensions, which this machine lacks: bcmath")
	assert.Equal(t, map[string]stackfile.Text{"TIDE_DB_HOST": "{db.host}", "TIDE_DB_PASS": "{db.password}"}, f.Env)
}

// Rules that only Apache knows speak for Apache; a front controller does not.
func TestWebServerByRules(t *testing.T) {
	front := "<IfModule mod_rewrite.c>\nRewriteEngine On\nRewriteRule ^index\\.php$ - [L]\n" +
		"RewriteCond %{REQUEST_FILENAME} !-f\nRewriteRule . /index.php [L]\n</IfModule>\n"
	_, f := proposed(t, folder(t, "office", map[string]string{"index.php": "<?php", ".htaccess": front}))
	assert.NotContains(t, f.Parts, "web")
	p, f := proposed(t, folder(t, "office", map[string]string{"index.php": "<?php",
		".htaccess": front + "RewriteRule ^tides/(.*) tides.php?day=$1 [L]\n"}))
	assert.Equal(t, stackfile.Texts{"apache"}, f.Parts["web"].Kind)
	assert.Contains(t, p.Text(), ".htaccess:7 has RewriteRule, which only Apache knows")
}

// Several programs of one repository become parts and sites of one stack.
func TestSeveralPrograms(t *testing.T) {
	_, f := proposed(t, folder(t, "harbour", map[string]string{
		"README.md":             "Harbour",
		"api/requirements.txt":  "fastapi\npsycopg\nredis\n",
		"api/app/main.py":       "import os; os.environ['API_DATABASE_URL']",
		"front/package.json":    `{"dependencies": {"vite": "6"}}`,
		"front/pnpm-lock.yaml":  "",
		"front/node_modules/x/": "",
		"Procfile":              "web: x\nmailer: python3 api/mailer.py\n",
	}))
	assert.Equal(t, []string{"api", "cache", "db", "front", "mailer"}, f.PartNames())
	assert.Equal(t, "cd api && uvicorn app.main:app --host 127.0.0.1 --port {port}", f.Parts["api"].Command)
	assert.Equal(t, "api.harbour", f.Sites[0].Name)
	assert.Equal(t, "front", f.Sites[1].App)
	require.Len(t, f.Tasks, 1, "front has its packages")
	assert.Equal(t, "api", f.Tasks[0].Folder)
	assert.True(t, f.Parts["mailer"].Worker())
	assert.Equal(t, stackfile.Text("{db.url}"), f.Env["API_DATABASE_URL"])
}

func TestPlainShapes(t *testing.T) {
	p, f := proposed(t, folder(t, "Quay & Co", map[string]string{"htdocs/index.html": "<h1>Quay</h1>"}))
	assert.Equal(t, "plain files", p.Shape)
	assert.Equal(t, "quay-co", f.Name)
	assert.Equal(t, "htdocs", f.Sites[0].Root)
	one := folder(t, "one", map[string]string{"pier/index.html": "", "pier/index.php": ""})
	_, err := Look(t.Context(), one, machine)
	require.Error(t, err, "one folder with two indexes is not several sites")
	_, f = proposed(t, folder(t, "built", map[string]string{"dist/index.html": "<h1>Quay</h1>", "notes.txt": ""}))
	assert.Equal(t, "dist", f.Sites[0].Root)
	_, f = proposed(t, folder(t, "tools", map[string]string{"public/index.php": "<?php",
		"package.json": `{"devDependencies": {"vite": "6"}, "scripts": {"build": "vite build"}}`}))
	assert.Equal(t, stackfile.Texts{"php"}, f.Parts["app"].Kind, "the package is for tools alone")
	require.Len(t, f.Tasks, 1)
	assert.Equal(t, "npm install && npm run build", f.Tasks[0].Command)
	p, f = proposed(
		t,
		folder(t, "sites", map[string]string{"north/index.php": "<?php", "south/public/index.html": ""}),
	)
	assert.Equal(t, "several sites", p.Shape)
	assert.Equal(t, "*", f.Sites[0].Each)
	assert.Equal(t, "app", f.Sites[0].App)
	_, f = proposed(t, folder(t, "old", map[string]string{"index.php": "notice", "public/index.php": "<?php",
		"db/ferry.sql": "CREATE TABLE boats (id int);", "inc/db.inc": "<?php mysqli_connect();"}))
	assert.Equal(t, "public", f.Sites[0].Root)
	assert.Equal(t, "db/ferry.sql", f.Parts["db"].Seed)
}

// What is no project gets a sentence.
func TestNoProject(t *testing.T) {
	for because, dir := range map[string]string{
		"empty":         folder(t, "empty", nil),
		"home folder":   "/home/ada",
		"of the system": "/usr",
		"several repositories": folder(t, "all", map[string]string{"a/.git/HEAD": "", "b/.git/HEAD": "",
			"b/index.php": ""}),
		"several projects": folder(t, "work", map[string]string{"a/manage.py": "", "b/bin/cake": "",
			"c/go.mod": "", "c/main.go": ""}),
		"no program, page or database": folder(t, "papers", map[string]string{"tides.pdf": "", "notes.txt": ""}),
	} {
		_, err := Look(t.Context(), dir, machine)
		var none *NoProject
		require.ErrorAs(t, err, &none, because)
		assert.Contains(t, none.Because, because)
	}
}

// Texts of the folder stay texts: none leaves its quotes or its comment.
func TestHostileTexts(t *testing.T) {
	evil := "x\"]\nname = 'evil'\n# \x1b[31m"
	dir := folder(t, `a"]b`, map[string]string{
		"composer.json": `{"require": {"ext-` + "x\\\"]\\nevil = 1 #" + `": "*"}}`,
		"package.json":  `{"scripts": {"start": "node \"\n\u001b[31m"}, "dependencies": {"pg\"\n[evil]": "1"}}`,
		"index.php":     "<?php getenv(\"A\\\"\n[evil]\"); // " + evil,
		"Procfile":      "worker: echo \"'''\n[evil] # \x1b[31m\nevil\"x: y\n",
		`db/"x".sql`:    "CREATE TABLE",
		".htaccess":     "Header set \"\n",
	})
	p, f := proposed(t, dir)
	assert.NotContains(t, p.Text(), "\x1b")
	assert.NotContains(t, strings.Split(p.Text(), "\n"), "[evil]")
	assert.Empty(t, f.Parts["app"].Extensions)
	assert.Equal(t, "a-b", f.Name)
}

// Programs and workers whose names are taken get others.
func TestNamesThatAreTaken(t *testing.T) {
	node := `{"dependencies": {"express": "4", "pg": "8"}, "scripts": {"start": "node x"}}`
	_, f := proposed(t, folder(t, "harbour", map[string]string{"db/package.json": node, "a/api/package.json": node,
		"b/api/package.json": node, "Procfile": "db: x\nweb: y\na-api-program: z\nurgent: echo {x.y}\n"}))
	assert.Equal(t, []string{"a-api-program", "b-api-program", "db", "db-program"}, f.PartNames())
	assert.Equal(t, stackfile.Texts{"postgres"}, f.Parts["db"].Kind)
}

// Two programs of one language need its program once, and a proposal is the same each time.
func TestSameEachTime(t *testing.T) {
	dir := folder(t, "harbour", map[string]string{"README": "", "a/go.mod": "module a\n", "a/main.go": "package main",
		"b/go.mod": "module b\n", "b/main.go": "package main", "b/composer.json": `{"require": {"x/y": "1"}}`})
	first, f := proposed(t, dir)
	assert.Len(t, f.Requires, 2)
	for range 20 {
		again, err := Look(t.Context(), dir, machine)
		require.NoError(t, err)
		assert.Equal(t, first.Text(), again.Text())
	}
}

// Nothing is followed out of the folder, and nothing is waited for.
func TestHostileFiles(t *testing.T) {
	outside := folder(t, "outside", map[string]string{"composer.json": `{"require": {"ext-ldap": "*"}}`})
	dir := folder(t, "office", map[string]string{"index.php": "<?php"})
	require.NoError(t, os.Symlink(filepath.Join(outside, "composer.json"), filepath.Join(dir, "composer.json")))
	require.NoError(t, os.Symlink(".", filepath.Join(dir, "loop")))
	require.NoError(t, os.Symlink("/dev/zero", filepath.Join(dir, ".env")))
	require.NoError(t, mkfifo(filepath.Join(dir, "package.json")))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "big.php"), make([]byte, 10<<20), 0o644))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "Gemfile"), make([]byte, 10<<20), 0o644))
	p, f := proposed(t, dir)
	assert.Empty(t, f.Parts["app"].Extensions)
	assert.Equal(t, []string{"Gemfile was not read: Gemfile is larger than 1024 kB",
		"package.json was not read: open package.json: it is not a regular file"}, p.Notes)

	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	_, err := Look(ctx, dir, machine)
	assert.ErrorIs(t, err, context.Canceled)
}

// A folder with very many files is read in part, and the proposal says so.
func TestManyFiles(t *testing.T) {
	dir := folder(t, "archive", map[string]string{"index.php": "<?php mb_strlen('x');"})
	for i := range 31_000 {
		if i%1000 == 0 {
			require.NoError(t, os.Mkdir(filepath.Join(dir, fmt.Sprint(i/1000)), 0o755))
		}
		name := filepath.Join(dir, fmt.Sprint(i/1000), fmt.Sprint(i)+".php")
		require.NoError(t, os.WriteFile(name, nil, 0o600))
	}
	p, f := proposed(t, dir)
	assert.Contains(t, p.Notes, "the folder is large: not all of it was read")
	assert.Equal(t, "app", f.Sites[0].App)
}
