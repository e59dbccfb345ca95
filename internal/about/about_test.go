package about

import (
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestSubjects(t *testing.T) {
	redis := Part("app").At("extensions").At("redis")
	for text, s := range map[string]Subject{
		"part.app": Part("app"), "part.app.extensions.redis": redis, "site.ferry.name": Site("ferry").At("name"),
		"task.fill": Task("fill"), "requires.git": Required("git"), "machine": Machine,
		"gateway.port": Gateway.At("port"), "name": Stack, "": Nothing,
	} {
		assert.Equal(t, text, s.String())
		assert.Equal(t, s, Parse(text))
		written, err := json.Marshal(s)
		require.NoError(t, err)
		assert.JSONEq(t, `"`+text+`"`, string(written))
		var read Subject
		require.NoError(t, json.Unmarshal(written, &read))
		assert.Equal(t, s, read)
	}
	assert.Equal(t, Part("app"), redis.Thing())
	assert.Equal(t, "extensions.redis", redis.Aspect())
	assert.True(t, redis.In(Part("app")) && redis.In(redis) && redis.In(Part("app").At("extensions")))
	assert.False(t, Part("apple").In(Part("app")) || Part("app").In(redis) || Site("app").In(Part("app")))
	name, ok := redis.PartName()
	assert.True(t, ok && name == "app")
	_, ok = redis.SiteName()
	assert.False(t, ok)
	dotted := Site("ferry.localhost").At("name")
	name, _ = dotted.SiteName()
	assert.Equal(t, "ferry.localhost", name, "a name may have a dot in it")
	assert.Equal(t, Site("ferry.localhost"), dotted.Thing())
}
