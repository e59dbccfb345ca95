package nats

import "dravit/internal/kind"

// signs are how a project tells that it needs such a part.
var signs = kind.Signs{
	Part:  "queue",
	Names: []string{"nats"},
	Packages: []string{"npm:nats", "python:nats-py", "gem:nats-pure", "go:github.com/nats-io/nats.go",
		"maven:jnats", "nuget:nats.client"},
	Variables: []string{"NATS"},
	Port:      4222,
}
