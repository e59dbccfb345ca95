package php

import (
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A PHP that is started by hand loads the modules of its tree, in the order of their priorities, and none of another.
func TestSettingsOfATree(t *testing.T) {
	file := func(text string) *fstest.MapFile { return &fstest.MapFile{Data: []byte(text)} }
	made, err := settingsOf(fstest.MapFS{
		"usr/lib/php/8.4/php.ini-development":           file("display_errors = On\n"),
		"usr/lib/php/8.4/php.ini-production":            file("display_errors = Off\n"),
		"usr/lib/php/20240924/mysqlnd.so":               file(""),
		"usr/lib/php/20240924/opcache.so":               file(""),
		"usr/lib/php/20240924/redis.so":                 file(""),
		"usr/share/php8.4-mysql/mysql/mysqlnd.ini":      file("; configuration\n; priority=10\nextension=mysqlnd.so\n"),
		"usr/share/php8.4-opcache/opcache/opcache.ini":  file("; priority=10\nzend_extension=opcache.so\n"),
		"usr/share/php8.4-xml/xml/xsl.ini":              file("extension=xsl.so\n"), // its library was missing
		"usr/share/php8.2-mysql/mysql/mysqlnd.ini":      file("; priority=10\nextension=mysqlnd.so\n"),
		"etc/php/8.4/mods-available/redis.ini":          file("; priority=25\nextension=redis\n"),
		"etc/php/8.4/mods-available/more.ini":           file("memory_limit = 1G\n"),
		"usr/share/doc/php8.4-mysql/examples/dream.ini": file("extension=dream.so\n"),
	}, "8.4")
	require.NoError(t, err)
	for _, sapi := range []string{"cli", "fpm"} {
		dir := "etc/php/8.4/" + sapi + "/conf.d/"
		for _, name := range []string{"00-development.ini", "10-mysqlnd.ini", "10-opcache.ini", "20-more.ini",
			"25-redis.ini"} {
			assert.Contains(t, made, dir+name)
		}
		assert.Equal(t, "display_errors = On\n", string(made[dir+"00-development.ini"]))
	}
	assert.Len(t, made, 10)
}
