package plan

import (
	"slices"

	"dravit/internal/kind"
)

// Accepts returns which versions of a kind's program a part takes, by the stack file, the project's own files and the
// part's data.
func Accepts(in Input, kinds map[string]kind.Kind, part, kindName string) func(version string) bool {
	m := &maker{in: in, kinds: kinds}
	k, known := kinds[kindName]
	if !known {
		return func(string) bool { return false }
	}
	want := in.File.Parts[part].For(kindName)
	demands := m.demands(part, k, want)
	written, hasData := in.History.Data[part]
	return func(version string) bool {
		p := &kind.Program{Version: version}
		if m.refuseVersion(p, demands) != "" {
			return false
		}
		if !hasData || !k.Needs(want).Data {
			return true
		}
		_, refusal, _ := m.data(part, k, want, p, written)
		return refusal == ""
	}
}

// Extensions returns the extensions that a part's program has to have, by the stack file and the project's own files,
// and those by which it could reach the stack's stores.
func Extensions(in Input, kinds map[string]kind.Kind, part, kindName string) (needed, also []string) {
	m := &maker{in: in, kinds: kinds}
	runtime, ok := kinds[kindName].(kind.Runtime)
	if !ok || !runtime.Traits().Extensions {
		return nil, nil
	}
	want, _ := m.wanted(part, runtime, in.File.Parts[part].For(kindName))
	for _, entry := range slices.Concat(want.Extensions, want.Also) {
		needed = append(needed, runtime.ExtensionName(entry))
	}
	if want.Debugger {
		needed = append(needed, runtime.Traits().Debugger)
	}
	for _, p := range in.File.Parts {
		for _, k := range p.Kind {
			if k != kindName {
				also = append(also, runtime.Clients(k)...)
			}
		}
	}
	slices.Sort(also)
	return needed, slices.Compact(also)
}
