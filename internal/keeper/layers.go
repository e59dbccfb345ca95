package keeper

import (
	"dravit/internal/materialise"
)

// layers sorts parts by what they need, whatever their roles are: in the first layer are those that no other of them
// needs, and each part is in a later layer than all that need it. Parts that need each other are in one layer.
func layers(names []string, needs func(name string) []string) [][]string {
	depth := map[string]int{}
	for _, name := range names {
		depth[name] = 0
	}
	for range names { // a chain is at most as long as there are parts; a circle would never settle
		for _, name := range names {
			for _, need := range needs(name) {
				if d, among := depth[need]; among && d <= depth[name] && depth[name]+1 < len(names) {
					depth[need] = depth[name] + 1
				}
			}
		}
	}
	out := make([][]string, len(names))
	for _, name := range names {
		out[depth[name]] = append(out[depth[name]], name)
	}
	var filled [][]string
	for _, layer := range out {
		if len(layer) > 0 {
			filled = append(filled, layer)
		}
	}
	return filled
}

// needed returns the parts that a part asks while it works: those that it uses, and, if it serves sites, the
// applications of these.
func needed(spec materialise.Spec, part string) []string {
	p, _ := spec.Part(part)
	all := append([]string{}, p.Uses...)
	for _, site := range spec.Sites {
		if site.Server == part && site.App != "" && site.App != part {
			all = append(all, site.App)
		}
	}
	return all
}
