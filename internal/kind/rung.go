package kind

import "context"

// RungName is the name of a step of a ladder.
type RungName string

const (
	Alive    RungName = "alive"    // something of the part lives
	Open     RungName = "open"     // its socket accepts
	Ours     RungName = "ours"     // that socket belongs to it
	Greets   RungName = "greets"   // greeting and credentials accepted in its own protocol
	Works    RungName = "works"    // a round trip of real work
	Resolves RungName = "resolves" // the system's resolver gives loopback
	Reaches  RungName = "reaches"  // the gateway accepts
	Routed   RungName = "routed"   // the right stack took it
	Replies  RungName = "replies"  // status as expected
	Matches  RungName = "matches"  // the expected text came, from the runtime
)

// PartRungs are the rungs of a part, the lowest first. A kind leaves out what has no meaning for it.
var PartRungs = []RungName{Alive, Open, Ours, Greets, Works}

// Rung is one step of a ladder, with the question that it asks.
type Rung struct {
	Name     RungName
	Advisory bool // an advisory rung that does not hold is shown, but the ladder holds without it
	// Ask returns nil if the rung holds. A *Miss says what was expected and what came.
	Ask func(ctx context.Context) error
	// After, if set, is called when the ladder was climbed, as far as it held.
	After func()
}

// Miss is the error of a rung that does not hold.
type Miss struct {
	Expected, Got string
	Untold        bool // the system does not tell: the rung is advisory this time
}

func (m *Miss) Error() string { return "expected " + m.Expected + ", got " + m.Got }

// DeepCheck asks more than a rung and takes longer: check --deep asks it.
type DeepCheck struct {
	Name string // stores, delivers, extensions, uploads
	Ask  func(ctx context.Context) error
}
