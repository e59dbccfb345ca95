// Package leg describes the way of one request, from the site's name to the stores behind its runtime. One server on
// this way is a leg.
package leg

// Leg is one server on the way of a request.
type Leg struct {
	Leg      string  `json:"leg"` // name, gateway, server, runtime, store
	Who      string  `json:"who"`
	Version  string  `json:"version,omitempty"` // of the program that answered
	MS       float64 `json:"ms"`                // its own time, without that of the legs behind it
	Holds    *bool   `json:"holds"`             // null: not asked
	Advisory bool    `json:"advisory"`
	Got      string  `json:"got,omitempty"` // if it does not hold, or what it found
}
