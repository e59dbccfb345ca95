package plan_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravit/internal/plan"
	"dravit/internal/project"
	"dravit/internal/stackfile"
	"dravit/internal/trouble"
)

// Every path in a stack file is checked: it must not lead out of the project.
func TestPathsOutOfTheProject(t *testing.T) {
	for _, c := range []struct{ name, file, path, subject string }{
		{"variables", "dotenv = \".env\"\n[part.seats]\nkind = \"redis\"\n", ".env", "dotenv"},
		{"directives",
			"[part.web]\nkind = \"nginx\"\n[[site]]\nname = \"quay\"\nroot = \".\"\ninclude = \"deploy/a.conf\"\n",
			"deploy/a.conf", "site.quay.include"},
		{"document root", "[[site]]\nname = \"quay\"\nroot = \"public\"\n", "public", "site.quay.root"},
		{"folders that are sites", "[[site]]\neach = \"crew/*\"\n", "crew/ada", "site.0.each"},
		{"extension", "[part.app]\nkind = \"php\"\nextensions = [\"ext/kelp.so\"]\n",
			"ext/kelp.so", "part.app.extensions"},
		{"extension of one kind",
			"[part.app]\nkind = [\"php\", \"custom\"]\n[part.app.php]\nextensions = [\"ext/kelp.so\"]\n",
			"ext/kelp.so", "part.app.extensions"},
		{"dump", "[part.db]\nkind = \"mariadb\"\nseed = \"a.sql\"\n", "a.sql", "part.db.seed"},
		{"folder of a task", "[[task]]\nname = \"tides\"\ncommand = \"make\"\nfolder = \"build\"\n", "build",
			"task.tides.folder"},
		{"folder of the application", "[part.app]\nkind = \"php\"\nwritable = [\"cache\"]\n", "cache",
			"part.app.writable"},
		{"folder to write to", "[part.app]\nkind = \"php\"\nrequires = { writable = [\"cache\"] }\n",
			"cache", "part.app.requires"},
		{"file of a setting", "[part.app]\nkind = \"php\"\nsettings = { error_log = \"/var/log/x\" }\n", "/var/log/x",
			"part.app.settings.error_log"},
	} {
		t.Run(c.name, func(t *testing.T) {
			in := machine(t, "debian", c.file)
			in.Project.Folders["."] = project.Folder{Exists: true, Index: "index.html"}
			in.Project.Files = []string{"deploy/a.conf"}
			in.Project.Each = map[string][]string{"crew/*": {"crew/ada"}}
			codes := func() []trouble.Code {
				var all []trouble.Code
				for _, f := range decide(in).Faults {
					if f.Code == trouble.Outside {
						assert.Equal(t, c.subject, f.Subject.String())
						assert.Contains(t, f.Next, `outside = ["/etc/secret"] in Dravit's settings.toml`)
						all = append(all, f.Code)
					}
				}
				return all
			}
			assert.Empty(t, codes(), "nothing leads out")
			in.Project.Outside = map[string]string{"another path": "/etc/secret"}
			assert.Empty(t, codes(), "nothing that is named leads out")
			in.Project.Outside = map[string]string{c.path: "/etc/secret"}
			assert.Len(t, codes(), 1)
		})
	}
}

// A setting that moves what Dravit keeps is rejected; one that opens the server waits for consent; the others stay.
func TestSettingsOfOthers(t *testing.T) {
	in := machine(t, "debian",
		"[part.seats]\nkind = \"redis\"\nsettings = { maxmemory = \"9mb\", bind = \"0.0.0.0\", hz = \"20\" }\n")
	p := decide(in)
	require.True(t, p.OK, "%+v", p.Faults)
	require.Len(t, p.Warnings, 1)
	assert.Contains(t, p.Warnings[0], `part seats asks to be reachable from your network (bind = "0.0.0.0")`)
	assert.Equal(t, map[string]stackfile.Text{"maxmemory": "9mb", "hz": "20"}, part(t, p, "seats").Want.Settings)
	in.Consent.Network = []string{plan.PartConsent("seats")}
	p = decide(in)
	assert.Empty(t, p.Warnings)
	assert.Equal(t, stackfile.Text("0.0.0.0"), part(t, p, "seats").Want.Settings["bind"])

	in = machine(t, "debian", "[part.seats]\nkind = \"redis\"\n"+
		"settings = { bind = \"127.0.0.1\", Dir = \"/srv\", unixsocket = \"/x\", hz = \"1\" }\n")
	p = decide(in)
	assert.Empty(t, p.Warnings, "it opens nothing")
	var subjects []string
	for _, f := range p.Faults {
		assert.Equal(t, trouble.Reserved, f.Code)
		subjects = append(subjects, f.Subject.String())
	}
	assert.Equal(t, []string{"part.seats.settings.Dir", "part.seats.settings.unixsocket"}, subjects)
}

// The authority certifies names that are reserved for private use, or that the user allowed.
func TestSuffixesOfOthers(t *testing.T) {
	in := machine(t, "debian", "[[site]]\nname = \"quay\"\nroot = \".\"\nsuffix = \"example.com\"\n[[site]]\n"+
		"name = \"pier\"\nroot = \".\"\nsuffix = \"test\"\n")
	in.Project.Folders["."] = project.Folder{Exists: true, Index: "index.html"}
	p := decide(in)
	require.Len(t, p.Faults, 1)
	assert.Equal(t, trouble.Reserved, p.Faults[0].Code)
	assert.Equal(t, "site.quay.suffix", p.Faults[0].Subject.String())
	in.Consent.Suffixes = []string{"example.com"}
	assert.True(t, decide(in).OK)
}
