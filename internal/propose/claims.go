package propose

import (
	_ "embed"
	"path"
	"slices"
	"strings"
	"sync"

	"github.com/pelletier/go-toml/v2"

	"dravit/internal/pattern"
)

//go:embed drivers.toml
var driversText []byte

// drivers are the packages of drivers.toml with the kind that answers each.
var drivers = sync.OnceValue(func() map[string]string {
	var table map[string][]string
	if err := toml.Unmarshal(driversText, &table); err != nil {
		panic(err) // it is embedded, and a test reads it
	}
	all := map[string]string{}
	for kind, names := range table {
		for _, name := range names {
			all[name] = kind
		}
	}
	return all
})

// Weights of evidence: code and manifests go before configuration, and that before what is usual for a shape.
const (
	ofCode   = 3
	ofConfig = 2
	ofShape  = 1
)

// claim says that something of the folder needs a store of a kind.
type claim struct {
	kind   string
	weight int
	from   Evidence
}

// databases exclude each other: an application that knows several of them uses one.
var databases = []string{"mariadb", "postgres", "sqlite"}

// claims returns what the folder says about stores.
func (t *tree) claims(programs []program, code *code) []claim {
	all := slices.Clone(code.claims)
	for _, p := range programs {
		for _, d := range p.packages {
			if kind := drivers()[d.name]; kind != "" && !d.dev {
				all = append(all, claim{kind, ofCode, d.from})
			}
		}
		if p.shape.Database != "" {
			all = append(all, claim{p.shape.Database, ofShape, Evidence{Says: "usual for " + p.shape.Name}})
		}
	}
	for _, file := range t.files {
		name := path.Base(file)
		for _, c := range configurations {
			if strings.Count(file, "/") < 5 && pattern.Of(c.files).MatchString(name) {
				all = append(all, c.read(file, string(t.read(file)))...)
			}
		}
	}
	return all
}

// configurations are files that name stores, and how they do.
var configurations = []struct {
	files string // the names, as a regular expression
	read  func(file, text string) []claim
}{
	{`^([a-z]+-)?compose[\w.-]*\.ya?ml$`, matching(ofConfig, "runs",
		`^\s*image:\s*["']?(?:[\w.-]+/)*(mysql|mariadb|postgres|postgis|redis|valkey|memcached|nats)\b`)},
	{`^\.env(\.(example|dist|sample|local|dev|development)(\..*)?)?$`, matching(
		ofConfig,
		"names",
		`^\s*(?:export\s+)?\w*(?:URL|DSN|URI|CONNECTION|DRIVER|STORE)=["']?`+
			`(mysql|mariadb|postgres|postgresql|pgsql|sqlite|`+
			`redis|memcached|nats|smtp)\b`,
	)},
	{`^\.env(\.(example|dist|sample)(\..*)?)?$`, matching(ofShape, "names a host for",
		`^\s*(?:export\s+)?(REDIS|MEMCACHED|MAIL|SMTP)_HOST=`)},
	{
		`^database\.ya?ml(\.\w+)?$`,
		matching(ofConfig, "names", `^\s*adapter:\s*["']?(postgresql|mysql2|trilogy|sqlite3)\b`),
	},
	{`^schema\.prisma$`, matching(ofCode, "names", `^\s*provider\s*=\s*"(postgresql|mysql|sqlite)"`)},
	{
		`^application[\w-]*\.(properties|ya?ml)$`,
		matching(ofConfig, "names", `jdbc:(postgresql|mysql|mariadb|sqlite)\b`),
	},
	{`\.py$`, matching(ofCode, "names", `django\.db\.backends\.(postgresql|mysql|sqlite3)\b`)},
}

// storeWords are the kinds that words in configuration mean.
var storeWords = map[string]string{
	"mysql":      "mariadb",
	"mysql2":     "mariadb",
	"trilogy":    "mariadb",
	"postgresql": "postgres",
	"pgsql":      "postgres",
	"postgis":    "postgres",
	"sqlite3":    "sqlite",
	"valkey":     "redis",
	"mail":       "dravit-mail",
	"smtp":       "dravit-mail",
}

// matching returns a reader of lines that name a store in the first group. Lines that are commented out are no
// evidence.
func matching(weight int, says, expression string) func(file, text string) []claim {
	return func(file, text string) []claim {
		var all []claim
		number := 0
		for line := range strings.Lines(text) {
			number++
			if trimmed := strings.TrimSpace(line); strings.HasPrefix(trimmed, "#") ||
				strings.HasPrefix(trimmed, "//") {
				continue
			}
			m := pattern.Of(expression).FindStringSubmatch(line)
			if m == nil {
				continue
			}
			kind := strings.ToLower(m[1])
			if other := storeWords[kind]; other != "" {
				kind = other
			}
			all = append(all, claim{kind, weight, Evidence{file, number, says + " " + m[1]}})
		}
		return all
	}
}

// best returns the strongest claims for one kind.
func best(claims []claim, kind string) (weight int, from []Evidence) {
	for _, c := range claims {
		switch {
		case c.kind != kind || c.weight < weight:
		case c.weight > weight:
			weight, from = c.weight, []Evidence{c.from}
		case len(from) < 2:
			from = append(from, c.from)
		}
	}
	return weight, from
}

// database returns the kind of database that the claims speak for, "" for none. also are the other kinds that have
// claims, the strongest first.
func database(claims []claim) (kind string, weight int, from []Evidence, also []string) {
	kinds := slices.Clone(databases)
	slices.SortStableFunc(kinds, func(a, b string) int {
		wa, _ := best(claims, a)
		wb, _ := best(claims, b)
		return wb - wa
	})
	for _, k := range kinds {
		w, f := best(claims, k)
		switch {
		case w == 0:
		case kind == "":
			kind, weight, from = k, w, f
		default:
			also = append(also, k)
		}
	}
	return kind, weight, from, also
}
