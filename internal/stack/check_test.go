package stack

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"dravit/internal/health"
	"dravit/internal/kind"
	"dravit/internal/kind/all"
	"dravit/internal/lifecycle"
	"dravit/internal/materialise"
)

// fallen is a ladder that does not hold at a rung.
func fallen(rung kind.RungName, got string) []health.Result {
	no := false
	return []health.Result{{Rung: rung, Holds: &no, Got: got}}
}

// A failure is blamed on the part behind it that does not answer, unless the page itself says what is wrong.
func TestBlame(t *testing.T) {
	spec := materialise.Spec{
		Parts: []kind.Part{{Name: "mail"}, {Name: "db"}, {Name: "app", Uses: []string{"db", "mail"}}, {Name: "web"}},
		Sites: []materialise.Site{{Name: "crew", App: "app", Server: "web"}, {Name: "inbox", Server: "mail"}},
	}
	for name, c := range map[string]struct {
		mail, app, web lifecycle.State
		appFell        kind.RungName
		crew           kind.RungName
		got            string
		want           []string // of app, crew and inbox
	}{
		"a store": {lifecycle.Stopped, lifecycle.Unwell, lifecycle.Answers, kind.Works, kind.Matches, "",
			[]string{"mail", "mail", "mail"}},
		"a page with words": {lifecycle.Stopped, lifecycle.Unwell, lifecycle.Answers, kind.Works, kind.Replies,
			"Fatal error: Uncaught mysqli_sql_exception: Table 'ferry.bookings' doesn't exist",
			[]string{"mail", "", "mail"}},
		"a page without a store": {lifecycle.Stopped, lifecycle.Unwell, lifecycle.Answers, kind.Works, kind.Replies,
			"Fatal error: Uncaught RedisException: Connection refused in ferry.php:77",
			[]string{"mail", "mail", "mail"}},
		"no page": {lifecycle.Answers, lifecycle.Failed, lifecycle.Answers, kind.Alive, kind.Replies,
			"", []string{"", "app", ""}},
		"no server": {lifecycle.Answers, lifecycle.Answers, lifecycle.Stopped, "", kind.Routed,
			"", []string{"", "web", ""}},
		"the page itself": {lifecycle.Answers, lifecycle.Answers, lifecycle.Answers, "",
			kind.Replies, "", []string{"", "", ""}},
	} {
		t.Run(name, func(t *testing.T) {
			app := PartCheck{Name: "app", Kind: "php", State: c.app}
			if c.appFell != "" {
				app.Rungs = fallen(c.appFell, "")
			}
			got := Checked{
				Parts: []PartCheck{
					{Name: "mail", State: c.mail},
					{Name: "db", State: lifecycle.Answers}, app,
					{Name: "web", State: c.web},
				},
				Sites: []health.SiteResult{
					{Name: "crew", State: lifecycle.Unwell, Rungs: fallen(c.crew, c.got)},
					{Name: "inbox", State: lifecycle.Unwell, Rungs: fallen(kind.Replies, "")},
				},
			}
			got.blame(spec, all.Kinds())
			assert.Equal(t, c.want, []string{got.Parts[2].BecauseOf, got.Sites[0].BecauseOf, got.Sites[1].BecauseOf})
		})
	}
}
