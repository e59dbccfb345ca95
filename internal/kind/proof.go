package kind

import "context"

// Deed is a slower proof of what a part does, which a deep check asks for. It leaves nothing behind.
type Deed struct {
	Name string // stores, delivers, extensions, uploads
	Ask  func(ctx context.Context) error
}

// Thorough is a kind with deeds to prove.
type Thorough interface{ Deeds(p Part) []Deed }
