package kind

import "slices"

// Requirement is one thing that an application requires, with what was found.
type Requirement struct {
	Sort   string `json:"sort"` // setting, database, function, writable
	Name   string `json:"name"`
	Wanted string `json:"wanted"`
	Got    string `json:"got"`
	Holds  bool   `json:"holds"`
}

// Unmet returns the first requirement that does not hold. ok is false if all hold.
func Unmet(all []Requirement) (first Requirement, ok bool) {
	if i := slices.IndexFunc(all, func(r Requirement) bool { return !r.Holds }); i >= 0 {
		return all[i], true
	}
	return Requirement{}, false
}
