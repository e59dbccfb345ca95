package kind

import "context"

// Cache is a store that holds what can be made again: dravit flush empties it.
type Cache interface {
	Store
	// Flush deletes everything in the part, whose server answers.
	Flush(ctx context.Context, p Part) error
}
