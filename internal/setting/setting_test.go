package setting

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestMeets(t *testing.T) {
	for _, c := range []struct {
		want, name, value string
		meets             bool
	}{
		{">= 128M", "memory_limit", "256M", true},
		{">= 128M", "memory_limit", "64M", false},
		{">= 128M", "memory_limit", "-1", true},
		{">= 128M", "memory_limit", "134217728", true},
		{">=16M", "max_allowed_packet", "16777216", true},
		{"> 16M", "max_allowed_packet", "16777216", false},
		{"<= 4", "x", "4", true},
		{"< 4", "x", "4", false},
		{">= 60", "max_execution_time", "0", true},
		{">= 60", "max_execution_time", "30", false},
		{">= 60", "other", "0", false},
		{"<= 60", "max_execution_time", "0", false},
		{"on", "short_open_tag", "1", true},
		{"off", "short_open_tag", "", true},
		{"Off", "short_open_tag", "1", false},
		{"utf8mb4", "character_set_server", "utf8mb4", true},
		{"utf8mb4", "character_set_server", "latin1", false},
		{"= 2G", "x", "2147483648", true},
		{">= 1", "x", "many", false},
		{"16 MB", "x", "16M", false},
		{"16MB", "x", "16M", true},
	} {
		w, err := Parse(c.want)
		require.NoError(t, err, c.want)
		assert.Equal(t, c.meets, w.Meets(c.name, c.value), "%s %s: %s", c.name, c.want, c.value)
	}
	for _, bad := range []string{"", ">=", ">= much", "  "} {
		_, err := Parse(bad)
		assert.Error(t, err, bad)
	}
}
