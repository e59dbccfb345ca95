package plan

import "dravit/internal/kind"

// Accepts returns which versions of a kind's program a part takes, by the stack file and the project's own files.
func Accepts(in Input, kinds map[string]kind.Kind, part, kindName string) func(version string) bool {
	m := &maker{in: in, kinds: kinds}
	k, known := kinds[kindName]
	if !known {
		return func(string) bool { return false }
	}
	demands := m.demands(part, k, in.File.Parts[part].For(kindName))
	return func(version string) bool {
		return m.refuseVersion(&kind.Program{Version: version}, demands) == ""
	}
}
