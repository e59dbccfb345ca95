package propose

import (
	"path"
	"slices"
	"strings"

	"dravit/internal/pattern"
)

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

// claims returns what the folder says about stores.
func (t *tree) claims(programs []program, code *code) []claim {
	all := slices.Clone(code.claims)
	for _, p := range programs {
		for _, d := range p.packages {
			if of := t.signs.packages[d.name]; of != "" && !d.dev {
				all = append(all, claim{of, ofCode, d.from})
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
				all = append(all, c.read(t.signs, file, string(t.read(file)))...)
			}
		}
	}
	return all
}

// word is a name in configuration that may mean a kind.
const word = `([a-z][a-z0-9_-]*)`

// configurations are files that name stores, and how they do.
var configurations = []struct {
	files string // the names, as a regular expression
	read  func(s *signs, file, text string) []claim
}{
	{`^([a-z]+-)?compose[\w.-]*\.ya?ml$`, matching(ofConfig, "runs", `^\s*image:\s*["']?(?:[\w.-]+/)*`+word)},
	{`^\.env(\.(example|dist|sample|local|dev|development)(\..*)?)?$`, matching(ofConfig, "names",
		`^\s*(?:export\s+)?\w*(?:URL|DSN|URI|CONNECTION|DRIVER|STORE)=["']?`+word)},
	{`^\.env(\.(example|dist|sample)(\..*)?)?$`, hosts},
	{`^database\.ya?ml(\.\w+)?$`, matching(ofConfig, "names", `^\s*adapter:\s*["']?`+word)},
	{`^schema\.prisma$`, matching(ofCode, "names", `^\s*provider\s*=\s*"`+word+`"`)},
	{`^application[\w-]*\.(properties|ya?ml)$`, matching(ofConfig, "names", `jdbc:`+word)},
	{`\.py$`, matching(ofCode, "names", `django\.db\.backends\.`+word)},
}

// hosts reads the lines of an example file that give the host of a store. An application may not use it.
func hosts(s *signs, file, text string) []claim {
	return lines(text, `^\s*(?:export\s+)?([A-Z]+)_HOST=`, func(found string, number int) (claim, bool) {
		of := s.hosts[strings.ToLower(found)]
		return claim{of, ofShape, Evidence{file, number, "names a host for " + found}}, of != ""
	})
}

// matching returns a reader of lines that name a store in the first group.
func matching(weight int, says, expression string) func(s *signs, file, text string) []claim {
	return func(s *signs, file, text string) []claim {
		return lines(text, expression, func(found string, number int) (claim, bool) {
			of := s.named(found)
			return claim{of, weight, Evidence{file, number, says + " " + found}}, of != ""
		})
	}
}

// lines calls read with the first group of each line that matches. Lines that are commented out are no evidence.
func lines(text, expression string, read func(found string, number int) (claim, bool)) []claim {
	var all []claim
	number := 0
	for line := range strings.Lines(text) {
		number++
		if trimmed := strings.TrimSpace(line); strings.HasPrefix(trimmed, "#") || strings.HasPrefix(trimmed, "//") {
			continue
		}
		if m := pattern.Of(expression).FindStringSubmatch(line); m != nil {
			if c, ok := read(m[1], number); ok {
				all = append(all, c)
			}
		}
	}
	return all
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
func (s *signs) database(claims []claim) (kind string, weight int, from []Evidence, also []string) {
	kinds := s.databases()
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
