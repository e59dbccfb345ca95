package tool

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestInspect(t *testing.T) {
	for name, c := range map[string][2]string{
		"git":       {"git version 2.47.3", "2.47.3"},
		"jq":        {"jq-1.7", "1.7"},
		"make":      {"GNU Make 4.3\nBuilt for x86_64-pc-linux-gnu", "4.3"},
		"mysql":     {"mysql  Ver 15.1 Distrib 10.5.23-MariaDB, for debian-linux-gnu", "10.5.23"},
		"openssl":   {"OpenSSL 3.5.1 1 Jul 2026 (Library: OpenSSL 3.5.1)", "3.5.1"},
		"psql":      {"psql (PostgreSQL) 17.12 (Debian 17.12-1)", "17.12"},
		"redis-cli": {"redis-cli 8.0.2", "8.0.2"},
		"rsync":     {"rsync  version 3.2.7  protocol version 31", "3.2.7"},
		"sqlite3":   {"3.46.1 2024-08-13 09:16:08", "3.46.1"},
	} {
		k, ok := Of(name)
		require.True(t, ok, name)
		version, _, err := k.Inspect(t.Context(), name, func(string, ...string) (string, error) { return c[0], nil })
		require.NoError(t, err)
		assert.Equal(t, c[1], version, name)
		assert.True(t, k.Suppliable())
	}
	mysql := func(string, ...string) (string, error) { return "mysql from 11.8.9-MariaDB, client 15.2", nil }
	client, _ := Of("mysql")
	version, _, err := client.Inspect(t.Context(), "", mysql)
	require.NoError(t, err)
	assert.Equal(t, "11.8.9", version)
	_, _, err = client.Inspect(t.Context(), "", func(string, ...string) (string, error) { return "kelp", nil })
	assert.Error(t, err)
	_, ok := Of("kelp")
	assert.False(t, ok)
}
