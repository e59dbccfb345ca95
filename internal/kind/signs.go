package kind

import "regexp"

// Signs are how the files of a project tell that it needs a part of the kind, in the words that projects use. Package
// propose reads them. Without Part the kind is never proposed.
type Signs struct {
	// Part is the name that the proposed part gets: db, cache, queue.
	Part string
	// Instead is a kind that is built into Dravit and serves as well where this one is not installed, or "".
	Instead string
	// Names are what configuration calls it: the name of an image, the scheme of an address, an adapter, a provider.
	Names []string
	// Packages are clients for it, each after the registry of its language: npm:pg, gem:pg, go:github.com/lib/pq.
	Packages []string
	// Extensions are those of PHP by which an application speaks to it, and Driver is the one that PDO uses, or "".
	Extensions []string
	Driver     string
	// DataSource is its address as PDO takes it, with placeholders of the stack file, or "".
	DataSource string
	// Calls are functions of PHP that need it without a client.
	Calls []string
	// Variables are words in the names of variables that stand for it: REDIS in REDIS_URL.
	Variables []string
	// Port is where its server listens by custom, or 0.
	Port int
	// File: its data are one file, which an application may keep by itself. Such an application needs no part.
	File bool
	// Title is what people call it, where that is not the kind's name.
	Title string
	// Rules are files of a project with directives, of which Only matches those that no other web server knows; its
	// second group, if it matches, is the file that a directive leads to. "": there are none.
	Rules string
	Only  func() *regexp.Regexp
	// Light: a part of it costs so little that a weak sign is enough.
	Light bool
}
