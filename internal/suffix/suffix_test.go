package suffix

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestRefuse(t *testing.T) {
	for _, ok := range []string{"localhost", "test", "quay.test", "internal", "home.arpa", "example",
		"ferry", "ferry.example.com"} {
		assert.NoError(t, Refuse(ok), ok)
	}
	for s, because := range map[string]string{
		"local":      "RFC 6762",
		"crew.local": "RFC 6762",
		"com":        "public suffix",
		"co.uk":      "public suffix",
		"dev":        "HTTPS only",
		"app":        "HTTPS only",
		"invalid":    "does not exist",
		"1":          "addresses",
		"quay.7":     "addresses",
		"ip6.arpa":   "RFC 3172",
	} {
		assert.ErrorContains(t, Refuse(s), because, s)
	}
}

func TestWarn(t *testing.T) {
	for _, quiet := range []string{"localhost", "test", "quay.test", "home.arpa"} {
		assert.Empty(t, Warn(quiet), quiet)
	}
	assert.Contains(t, Warn("ferry"), "no standard reserves")
	assert.Contains(t, Warn("ferry.example.com"), "whoever registered it")
	assert.Contains(t, Warn("saltmarsh.dev"), "HTTPS only")
}
