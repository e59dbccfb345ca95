package redis

import "dravit/internal/kind"

// signs are how a project tells that it needs such a part.
var signs = kind.Signs{
	Part:    "cache",
	Instead: "dravit-cache",
	Names:   []string{"redis", "valkey"},
	Packages: []string{"composer:ext-redis", "composer:predis/predis", "npm:redis", "npm:ioredis", "npm:bull",
		"npm:bullmq", "npm:connect-redis", "python:redis", "python:django-redis", "python:rq",
		"python:arq", "gem:redis", "gem:sidekiq", "gem:resque", "go:github.com/redis/go-redis/v9",
		"go:github.com/go-redis/redis/v8", "go:github.com/gomodule/redigo",
		"maven:spring-boot-starter-data-redis", "maven:jedis", "maven:lettuce-core",
		"nuget:stackexchange.redis"},
	Extensions: []string{"redis"},
	Variables:  []string{"REDIS", "CACHE"},
	Port:       6379,
}
