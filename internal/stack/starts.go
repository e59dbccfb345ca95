package stack

import (
	"time"

	"dravit/internal/home"
	"dravit/internal/lifecycle"
)

// StartRecord is the record of a start after which everything answered.
type StartRecord struct {
	At    time.Time                   `json:"at"`      // when it began
	Took  int64                       `json:"took_ms"` // until everything answered
	Begun []string                    `json:"began"`   // parts
	All   bool                        `json:"all"`     // it started every part: such starts can be compared
	Spans map[string][]lifecycle.Span `json:"spans"`   // the phases of each part
}

// maxStarts is how many records are kept.
const maxStarts = 50

func (s *Stack) startsFile() string { return s.Home.Stack(s.ID, "state", "starts.json") }

// record adds the record of a start that started anything.
func (s *Stack) record(began time.Time, out Started) error {
	if len(out.Begun) == 0 {
		return nil
	}
	all, err := s.Starts()
	if err != nil {
		return err
	}
	all = append(all, StartRecord{began.UTC(), time.Since(began).Milliseconds(), out.Begun,
		len(out.Begun) == len(out.Plan.Parts), out.Spans})
	return home.WriteState(s.startsFile(), all[max(0, len(all)-maxStarts):])
}

// Starts returns the records of the last starts, the latest last.
func (s *Stack) Starts() ([]StartRecord, error) {
	var all []StartRecord
	if s.ID == "" {
		return nil, nil
	}
	return all, home.ReadDerived(s.startsFile(), &all)
}
