package stackfile

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestValues(t *testing.T) {
	f := &File{Name: "saltmarsh-ferry",
		Parts: map[string]PartConfig{"app": {Kind: Texts{"php"},
			Extensions: []string{"intl", "redis"},
			Settings:   map[string]Text{"memory_limit": "256M"},
			Also:       []string{"gd"},
			Of:         map[string]PartConfig{"php": {Kind: Texts{"php"}, Version: "8.2"}}}},
		Sites: []SiteConfig{{Name: "ferry", Root: "public", Expect: &Expect{Status: 200}}, {Each: "crew/*"}},
		Env:   map[string]Text{"TOKEN": "high water"},
	}
	values := f.Values()
	token := values["env.TOKEN"]
	assert.Regexp(t, `^[0-9a-f]{64}$`, token)
	delete(values, "env.TOKEN")
	assert.Equal(t, map[string]string{"name": "saltmarsh-ferry", "part.app.kind": "php",
		"part.app.extensions": "intl, redis", "part.app.settings.memory_limit": "256M",
		"part.app.php.version": "8.2", "site.ferry.name": "ferry", "site.ferry.root": "public",
		"site.ferry.expect.status": "200",
		"site.crew/*.each":         "crew/*"}, values)
	f.Env["TOKEN"] = "low water"
	assert.NotEqual(t, token, f.Values()["env.TOKEN"])
	assert.Equal(t, map[string]string{"name": ""}, (&File{}).Values())
}
