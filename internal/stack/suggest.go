package stack

import (
	"context"
	"maps"

	"dravit/internal/kind"
	"dravit/internal/propose"
)

// suggested returns the commands that the project's own files suggest, by the cause that they remove
// (docs/causes.md).
func suggested(ctx context.Context, dir string, kinds kind.List) map[string]string {
	c := propose.Suggest(ctx, dir, kinds)
	out := map[string]string{"tables-missing": c.Tables, "packages-missing": c.Packages}
	maps.DeleteFunc(out, func(_, command string) bool { return command == "" })
	return out
}
