package diagnose

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravit/internal/cause"
	"dravit/internal/health"
	"dravit/internal/kind"
	"dravit/internal/lifecycle"
	"dravit/internal/pattern"
	"dravit/internal/stackfile"
)

// What is wrong with a site if all parts behind it answer.
func TestSiteCauses(t *testing.T) {
	for _, c := range []struct {
		name   string
		edit   func(s *SiteFacts)
		cause  string
		remedy string
		fix    int // words of it
	}{
		{"root gone", func(s *SiteFacts) {
			s.Root = Root{Path: "/p", Missing: true, Closed: "/p"}
		}, "root-gone", "create it again", 0},
		{"root closed", func(s *SiteFacts) {
			s.Root = Root{Path: "/p", Closed: "/p/x"}
		}, "root-closed", "chmod -R u+rX '/p/x'", 4},
		{"the page tells", func(s *SiteFacts) {
			s.Page, s.Status = "no table boats", 500
		}, "tables-missing", "dravit run --part app", 0},
		{"the log of now tells", func(s *SiteFacts) {
			s.NowLogs = map[string]string{"app": "no table boats"}
			s.SinceLogs = map[string]string{"app": "refused"}
		}, "tables-missing", "", 0},
		{"the log of before tells", func(s *SiteFacts) {
			s.SinceLogs = map[string]string{"app": "refused"}
		}, "store-elsewhere", "", 0},
		{"the page goes before the logs", func(s *SiteFacts) {
			s.Page, s.NowLogs = "refused", map[string]string{"app": "no table boats"}
		}, "store-elsewhere", "", 0},
		{"no part runs it", func(s *SiteFacts) {
			s.Spec.App, s.Status, s.Root = "", 403, Root{Path: "/p", PHP: true, Index: true}
		}, "site-without-app", "app = \"PART\"", 0},
		{"no part runs it, not found", func(s *SiteFacts) {
			s.Spec.App, s.Status, s.Root = "", 404, Root{Path: "/p", PHP: true}
		}, "site-without-app", "", 0},
		{"a part runs it", func(s *SiteFacts) {
			s.Status, s.Root = 404, Root{Path: "/p", PHP: true, Index: true}
		}, "status-unexpected", "", 0},
		{"no index", func(s *SiteFacts) {
			s.Status, s.Root = 403, Root{Path: "/p"}
		}, "index-missing", "create index.php or index.html", 0},
		{"no index, not found", func(s *SiteFacts) {
			s.Status, s.Root = 404, Root{Path: "/p"}
		}, "index-missing", "", 0},
		{"no index, and an error", func(s *SiteFacts) {
			s.Status, s.Root = 500, Root{Path: "/p"}
		}, "application-error", "dravit logs app", 0},
		{"no root at all", func(s *SiteFacts) { s.Status = 404 }, "status-unexpected", "", 0},
		{"another text", func(s *SiteFacts) {
			s.Rungs, s.Page = rungs(kind.Matches, "x"), "<h1>Fog</h1>"
			s.Spec.Expect = &stackfile.Expect{Text: "Sailings"}
		}, "text-missing", "correct the page, or the key expect", 0},
		{"the text, and a different answer", func(s *SiteFacts) {
			s.Rungs, s.Page = rungs(kind.Matches, "x"), "<h1>Sailings</h1>"
			s.Spec.Expect = &stackfile.Expect{Text: "Sailings"}
		}, "unwell", "", 0},
		{"no text expected", func(s *SiteFacts) {
			s.Rungs, s.Spec.Expect = rungs(kind.Matches, "x"), &stackfile.Expect{Path: "/x"}
		}, "unwell", "", 0},
		{"nothing expected", func(s *SiteFacts) { s.Rungs = rungs(kind.Matches, "x") }, "unwell", "", 0},
		{"an error", func(s *SiteFacts) { s.Status = 500 }, "application-error", "dravit logs app", 0},
		{"an error of a site of files", func(s *SiteFacts) {
			s.Status, s.Spec.App = 503, ""
		}, "application-error", "dravit logs web", 0},
		{"not found", func(s *SiteFacts) {
			s.Status = 499
		}, "status-unexpected", "correct the application, or the key expect", 0},
		{"forbidden", func(s *SiteFacts) { s.Status = 400 }, "status-unexpected", "", 0},
		{"anything else", func(s *SiteFacts) { s.Status = 399 }, "unwell", "dravit check", 0},
	} {
		t.Run(c.name, func(t *testing.T) {
			f := facts(lifecycle.Answers, "")
			c.edit(&f.Sites[0])
			got := Causes(f)
			require.Equal(t, []string{"site.ferry " + c.cause}, words(got))
			assert.Contains(t, got[0].Remedy, c.remedy)
			assert.Len(t, got[0].Fix, c.fix)
			f.Sites[0].Rungs = []health.Result{}
			assert.Empty(t, Causes(f), "a site whose ladder holds has no cause")
		})
	}
}

// The web server's log counts if its app's log says nothing; the app's symptoms are not searched for in it.
func TestServerTells(t *testing.T) {
	f := facts(lifecycle.Answers, "")
	f.Parts[0].Traits.Symptoms, f.Parts[0].LogFile = symptoms(), "/logs/web.log"
	f.Sites[0].NowLogs = map[string]string{"web": "Fatal: fog"}
	got := Causes(f)
	require.Equal(t, []string{"site.ferry application-error"}, words(got))
	assert.Equal(t, []string{"logs/web.log: Fatal: fog"}, got[0].Evidence)
	f.Sites[0].NowLogs["app"] = "no table boats"
	assert.Equal(t, []string{"site.ferry tables-missing"}, words(Causes(f)))
}

// As long as the gateway does not lead to the site, nothing is known about what is behind it.
func TestEntranceCauses(t *testing.T) {
	for _, rung := range []kind.RungName{kind.Reaches, kind.Routed} {
		f := facts(lifecycle.Answers, "no table boats")
		f.Sites[0].Rungs = rungs(rung, "x")
		got := Causes(f)
		require.Equal(t, []string{"gateway gateway-down"}, words(got))
		assert.Equal(t, []string{"dravit", "start"}, got[0].Fix)
		assert.Contains(t, got[0].What, "does not lead to the site ferry")
		f.Gateway = Gateway{Port: 8080, Holder: "chatter (pid 7)", Runs: true}
		got = Causes(f)
		require.Equal(t, []string{"gateway gateway-port-taken"}, words(got))
		assert.Contains(t, got[0].Evidence[0], "port 8080 is held by chatter (pid 7)")
		assert.Contains(t, got[0].Remedy, "dravit ports 8080")
	}
	f := facts(lifecycle.Answers, "")
	f.Gateway.Runs = false
	assert.Contains(t, words(Causes(f)), "gateway gateway-down")
	f.Sites = nil
	assert.Empty(t, Causes(f), "without a site no gateway is wanted")
}

// A cause of a part is not repeated at each of its sites; two sites' own causes are both reported.
func TestOnce(t *testing.T) {
	f := facts(lifecycle.Answers, "no table boats")
	f.Sites = append(f.Sites, f.Sites[0])
	f.Sites[1].Spec.Name = "crew"
	assert.Equal(t, []string{"site.ferry tables-missing"}, words(Causes(f)))
	f.Sites[1].Page = "no table crew"
	assert.Equal(t, []string{"site.ferry tables-missing", "site.crew tables-missing"}, words(Causes(f)))
}

// A failed log-in names the variables of the store, if only one store can be meant.
func TestVariablesOfTheStore(t *testing.T) {
	re := func(text string) kind.Symptom {
		all := symptoms()
		s := all[0]
		s.Cause, s.Means = cause.ID(text), "a store refuses: $1"
		return s
	}
	store := func(name, words string, port int) PartFacts {
		return PartFacts{
			Spec:    kind.Part{Name: name, Port: port},
			Status:  lifecycle.Status{State: lifecycle.Answers},
			Program: true,
			Traits:  kind.Traits{Clients: re(words).Words},
		}
	}
	f := facts(lifecycle.Answers, "no table boats")
	f.Parts[1].Traits.Symptoms = []kind.Symptom{re("wrong-password")}
	f.Parts[2] = store("crew-db", "", 13306)
	f.Parts[1].Spec.Uses = []string{"crew-db", "mail"}
	f.Parts = append(f.Parts,
		PartFacts{Spec: kind.Part{Name: "mail"}, Status: lifecycle.Status{State: lifecycle.Answers}, Program: true})
	got := Causes(f)
	require.Len(t, got, 1)
	assert.Equal(t, "read CREW_DB_USER and CREW_DB_PASSWORD, or CREW_DB_URL, from the environment; dravit run -- "+
		"env shows them", got[0].Remedy)
	assert.Contains(t, got[0].Evidence, "part crew-db listens on 127.0.0.1:13306")
	f.Parts[1].Traits.Symptoms[0].Cause = "store-elsewhere"
	assert.Contains(t, Causes(f)[0].Remedy, "read CREW_DB_HOST and CREW_DB_PORT, or")
	f.Parts[2].Spec.Port = 0
	assert.Len(t, Causes(f)[0].Evidence, 1, "it listens on no port")

	// Of two stores, the one whose clients write such messages; of none or both, none.
	f.Parts[1].Spec.Uses = []string{"crew-db", "seats"}
	f.Parts = append(f.Parts, store("seats", "", 16379))
	assert.Equal(t, "dravit run --part app -- make-tables", Causes(f)[0].Remedy)
	never := func() kind.Traits { return kind.Traits{Clients: symptoms()[2].Words} }
	f.Parts[2].Traits = never()
	assert.Contains(t, Causes(f)[0].Remedy, "SEATS_HOST")
	f.Parts[4].Traits = never()
	assert.Equal(t, "dravit run --part app -- make-tables", Causes(f)[0].Remedy)
}

// A file that contains the port which a store had before is the cause if the application finds no store, else it may
// be.
func TestOldPort(t *testing.T) {
	f := facts(lifecycle.Answers, "refused")
	f.OldPorts = []OldPort{{File: "config.php", Line: 5, Part: "db", Was: 13306, Now: 13307}}
	got := Causes(f)
	require.Equal(t, []string{"part.db port-old", "site.ferry store-elsewhere"}, words(got))
	assert.Equal(t, "write 13307 in line 5 of config.php", got[0].Remedy)
	f.Sites[0].Page = "no table boats"
	assert.Equal(t, []string{"site.ferry tables-missing", "part.db port-old"}, words(Causes(f)))
}

// An error of a client for a kind of server that the stack does not have is laid to no other store. A path in it names
// no server.
func TestStoreLacking(t *testing.T) {
	f := facts(lifecycle.Answers, "refused")
	f.Parts[1].Spec.Uses = []string{"db"}
	f.Parts[2] = PartFacts{
		Spec:    kind.Part{Name: "db", Port: 13306},
		Status:  lifecycle.Status{State: lifecycle.Answers},
		Program: true,
		Traits:  kind.Traits{Clients: pattern.New("mysqli")},
	}
	f.Kinds = []*kind.Traits{
		{Name: "built-in-cache", Clients: pattern.New("RedisException")},
		{Name: "redis", Programs: []string{"redis-server"}, Clients: pattern.New("RedisException")},
	}
	for _, c := range []struct{ page, cause, remedy string }{
		{"refused", "store-elsewhere", "read DB_HOST"},
		{"mysqli: refused", "store-elsewhere", "read DB_HOST"},
		{"/srv/RedisException/x.php: refused", "store-elsewhere", "read DB_HOST"},
		{"RedisException: refused", "store-lacking", "[part.redis]\n\tkind = \"redis\""},
	} {
		f.Sites[0].Page = c.page
		got := Causes(f)
		require.Equal(t, []string{"site.ferry " + c.cause}, words(got), c.page)
		assert.Contains(t, got[0].Remedy, c.remedy, c.page)
	}

	// A part of that kind which the application does not use is not lacking.
	f.Parts = append(f.Parts, f.Parts[2])
	f.Parts[len(f.Parts)-1].Spec.Name = "seats"
	f.Parts[len(f.Parts)-1].Traits = *f.Kinds[1]
	got := Causes(f)
	assert.Equal(t, []string{"site.ferry store-elsewhere"}, words(got))
	assert.NotContains(t, got[0].Remedy, "DB_HOST", "nor is it laid to the part that the application uses")
}

// Names that nobody knows are one cause: one command mends all.
func TestUnknownNames(t *testing.T) {
	no := false
	site := func(name string) SiteFacts {
		s := SiteFacts{Rungs: []health.Result{{Rung: kind.Resolves, Holds: &no}}}
		s.Spec.Name, s.Spec.Host = name, name+".test"
		return s
	}
	f := Facts{Gateway: Gateway{Runs: true}, Sites: []SiteFacts{site("day")}}
	all := Causes(f)
	require.Len(t, all, 1)
	assert.Equal(t, "site.day", all[0].Subject.String())
	f.Sites = append(f.Sites, site("night"))
	all = Causes(f)
	require.Len(t, all, 1)
	assert.Equal(t, "machine", all[0].Subject.String())
	assert.Equal(t, "the system's resolver does not know the names day.test, night.test", all[0].What)
	assert.Contains(t, all[0].Evidence, "they are those of the sites day, night")
}
