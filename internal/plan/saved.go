package plan

import (
	"encoding/json"
	"errors"
	"fmt"
	"maps"

	"dravit/internal/stackfile"
)

// Saved returns the input without the values of variables and settings, so that it can be given to others. No decision
// depends on these values.
func (in Input) Saved() Input {
	f := *in.File
	f.Env, f.Parts = without(f.Env), maps.Clone(f.Parts)
	for name, p := range f.Parts {
		p.Settings, p.Of = without(p.Settings), maps.Clone(p.Of)
		for kindName, own := range p.Of {
			own.Settings = without(own.Settings)
			p.Of[kindName] = own
		}
		f.Parts[name] = p
	}
	in.File, in.History.Good.File = &f, nil
	return in
}

func without(values map[string]stackfile.Text) map[string]stackfile.Text {
	out := maps.Clone(values)
	for name := range out {
		out[name] = ""
	}
	return out
}

// ParseInput reads a saved input from JSON. Another format gives an error.
func ParseInput(text []byte) (Input, error) {
	var in Input
	if err := json.Unmarshal(text, &in); err != nil {
		return in, err
	}
	switch {
	case in.Format != Format:
		return in, fmt.Errorf("its format is %d, but this version of Dravit reads %d", in.Format, Format)
	case in.File == nil || in.StackID == "":
		return in, errors.New("it has no stack file in it")
	}
	return in, nil
}
