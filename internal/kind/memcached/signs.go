package memcached

import "dravit/internal/kind"

// signs are how a project tells that it needs such a part.
var signs = kind.Signs{
	Part:  "memcached",
	Names: []string{"memcached"},
	Packages: []string{"composer:ext-memcached", "npm:memcached", "npm:memjs", "python:pymemcache",
		"python:python-memcached", "python:pylibmc", "gem:dalli",
		"go:github.com/bradfitz/gomemcache"},
	Extensions: []string{"memcached", "memcache"},
	Variables:  []string{"MEMCACHED"},
	Port:       11211,
}
