package environment

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"dravit/internal/kind"
	"dravit/internal/kind/all"
	"dravit/internal/stackfile"
)

func parts() []kind.Part {
	return []kind.Part{
		{Name: "web", Kind: "nginx", Role: kind.RoleWeb, Socket: "/s/web", Password: "unused"},
		{Name: "app", Kind: "php", Role: kind.RoleRuntime, Conf: "/c/app", Project: "/p"},
		{Name: "api", Kind: "node", Role: kind.RoleApp, Port: 18000, Conf: "/c/api", Project: "/p"},
		{Name: "db", Kind: "mariadb", Role: kind.RoleDatabase, Port: 13306, User: "ferry", Password: "kelp",
			Database: "ferry", Conf: "/c/db"},
		{Name: "seats", Kind: "redis", Role: kind.RoleCache, Port: 16379, Password: "salt", Conf: "/c/seats"},
		{Name: "mail", Kind: "dravit-mail", Role: kind.RoleMail, Port: 11025, Password: "secret", Socket: "/s/mail"},
		{Name: "fog", Kind: "nats", Role: "queue", Port: 14222, Password: "horn"},
	}
}

func variables(own map[string]stackfile.Text, more ...kind.Part) []string {
	site := func(name, field string) string { return "<" + name + " " + field + ">" }
	return Variables(append(parts(), more...), all.Kinds(), own, Machine{Authority: "/a.pem", Bundle: "/b.pem"}, site)
}

func TestVariables(t *testing.T) {
	vars := variables(map[string]stackfile.Text{
		"LEDGER_DSN": "mysql:host={db.host};port={db.port};user={db.user}",
		"SEEN_AT":    "{site.ferry.url}",
		"DB_HOST":    "elsewhere",
	})
	for name, want := range map[string]string{
		"DB_USER":             "ferry",
		"DB_PASSWORD":         "kelp",
		"API_URL":             "http://127.0.0.1:18000",
		"NATS_URL":            "nats://horn@127.0.0.1:14222",
		"REDIS_PASSWORD":      "salt",
		"MAIL_HOST":           kind.Host,
		"MAIL_PASSWORD":       "", // its secret is its inbox's own
		"MAIL_SOCKET":         "",
		"WEB_SOCKET":          "", // nobody reaches a web server past the gateway
		"WEB_PASSWORD":        "",
		"APP_SOCKET":          "",
		"NODE_EXTRA_CA_CERTS": "/a.pem",
		"SSL_CERT_FILE":       "/b.pem",
		"LEDGER_DSN":          "mysql:host=127.0.0.1;port=13306;user=ferry",
		"SEEN_AT":             "<ferry url>",
		"DB_HOST":             "elsewhere", // the stack file goes before what Dravit knows
	} {
		assert.Equal(t, want, kind.Getenv(vars, name), name)
	}
	assert.IsIncreasing(t, vars)
}

// Names without a prefix belong to the only store of a sort, or to the main one. Stores of other sorts do not compete.
func TestMains(t *testing.T) {
	second := kind.Part{Name: "old", Kind: "mariadb", Role: kind.RoleDatabase, Port: 13307, User: "old"}
	assert.Equal(t, "13306", kind.Getenv(variables(nil), "MYSQL_PORT"))
	vars := variables(nil, second)
	assert.Empty(t, kind.Getenv(vars, "MYSQL_PORT"), "two databases, and none is the main one")
	assert.Equal(t, "16379", kind.Getenv(vars, "REDIS_PORT"), "the cache is the only one of its sort")
	second.Want.Main = true
	assert.Equal(t, "13307", kind.Getenv(variables(nil, second), "MYSQL_PORT"))
}

func TestGive(t *testing.T) {
	p := parts()
	alone := []kind.Part{{Name: "keys", Kind: "redis", Role: kind.RoleCache}}
	Give(alone, all.Kinds(), []string{"DB_PORT=13306"}, Machine{})
	assert.Empty(t, kind.Getenv(alone[0].Env, "DB_PORT"), "a store that uses nothing")
	alone[0].Uses = []string{"db"}
	Give(alone, all.Kinds(), []string{"DB_PORT=13306"}, Machine{})
	assert.Equal(t, "13306", kind.Getenv(alone[0].Env, "DB_PORT"), "a store that uses another part")
	path := Give(p, all.Kinds(), []string{"DB_PORT=13306"}, Machine{Path: "/usr/bin", Home: "/h", User: "ada"})
	assert.Equal(t, []string{"/c/app/bin", "/p/vendor/bin", "/c/api/bin", "/p/node_modules/.bin",
		"/c/db/bin", "/c/seats/bin"}, path)
	for i, c := range []struct{ path, port string }{
		{"/c/app/bin:/p/vendor/bin:/c/api/bin:/p/node_modules/.bin:/c/db/bin:/c/seats/bin:/usr/bin", ""},
		{"/c/app/bin:/p/vendor/bin:/c/api/bin:/p/node_modules/.bin:/c/db/bin:/c/seats/bin:/usr/bin", "13306"},
		{"/c/api/bin:/p/node_modules/.bin:/c/app/bin:/p/vendor/bin:/c/db/bin:/c/seats/bin:/usr/bin", "13306"},
	} {
		assert.Equal(t, c.path, kind.Getenv(p[i].Env, "PATH"), p[i].Name)
		assert.Equal(t, c.port, kind.Getenv(p[i].Env, "DB_PORT"), p[i].Name)
		assert.Equal(t, "/h", kind.Getenv(p[i].Env, "HOME"))
	}
}

func TestCommand(t *testing.T) {
	got := Command(
		[]string{"HOME=/h", "DB_PORT=1", "SSL_CERT_FILE=/mine.pem", "NODE_EXTRA_CA_CERTS=",
			"PATH=/usr/bin", "DB_PORT=2"},
		[]string{"DB_PORT=13306", "DSN=a=b", "SSL_CERT_FILE=/b.pem", "NODE_EXTRA_CA_CERTS=/a.pem"},
		[]string{"/c/app/bin", "/c/db/bin"},
	)
	assert.Equal(t, []string{
		"HOME=/h",
		"DB_PORT=13306",
		"SSL_CERT_FILE=/mine.pem",
		"NODE_EXTRA_CA_CERTS=/a.pem",
		"PATH=/c/app/bin:/c/db/bin:/usr/bin",
		"DSN=a=b",
	}, got)
	assert.Equal(t, []string{"PATH=/c:"}, Command(nil, nil, []string{"/c"}))
}
