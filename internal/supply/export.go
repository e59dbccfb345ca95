package supply

import (
	"context"
	"encoding/json"
	"maps"
	"os"
	"path/filepath"

	"dravit/internal/home"
	"dravit/internal/trouble"
)

// exportFile is what describes an exported folder.
const exportFile = "supply.json"

// Exported describes a folder from which machines without a network are supplied. As JSON it has a key for each source,
// beside those of its fields.
type Exported struct {
	Format  int                        `json:"format"`
	Trees   []Locked                   `json:"trees"` // that can be made from it
	Bytes   int64                      `json:"size_bytes"`
	Sources map[string]json.RawMessage `json:"-"` // what each source needs to take programs from the folder
	// Unsigned: some programs are signed by nobody, and are taken only by a user who says so.
	Unsigned bool `json:"-"`
}

// exported has the fields of Exported alone.
type exported Exported

// MarshalJSON returns the fields, and a key for each source.
func (x Exported) MarshalJSON() ([]byte, error) {
	text, err := json.Marshal(exported(x))
	if err != nil {
		return nil, err
	}
	all := map[string]json.RawMessage{}
	if err := json.Unmarshal(text, &all); err != nil {
		return nil, err
	}
	maps.Copy(all, x.Sources)
	return json.Marshal(all)
}

// UnmarshalJSON reads what MarshalJSON returns.
func (x *Exported) UnmarshalJSON(text []byte) error {
	var of exported
	if err := json.Unmarshal(text, &of); err != nil {
		return err
	}
	*x = Exported(of)
	return json.Unmarshal(text, &x.Sources)
}

// Put adds what a source needs to take programs from the folder, under a key of its own.
func (x *Exported) Put(key string, v any) error {
	text, err := json.Marshal(v)
	if x.Sources == nil {
		x.Sources = map[string]json.RawMessage{}
	}
	x.Sources[key] = text
	return err
}

// Read reads what Put put under a key into v, and reports whether there is such a key.
func (x Exported) Read(key string, v any) (bool, error) {
	text, ok := x.Sources[key]
	if !ok {
		return false, nil
	}
	return true, json.Unmarshal(text, v)
}

// Export writes what trees consist of into a folder, with what their sources say of it, so that what another machine
// takes from it is checked as if it had asked the sources. It goes on where an earlier call broke off.
func (s Supplier) Export(ctx context.Context, trees []Tree, dir string, progress func(done int64)) (Exported, error) {
	out := Exported{Format: 1, Trees: []Locked{}}
	of := map[string][]Tree{}
	for _, t := range trees {
		out.Trees = append(out.Trees, t.Locked(s.OS+"/"+s.Arch))
		of[t.Format] = append(of[t.Format], t)
	}
	for _, from := range s.Sources {
		before := out.Bytes
		err := from.Export(ctx, of[from.Format()], dir, &out, func(done int64) { progress(before + done) })
		if err != nil {
			return out, err
		}
		delete(of, from.Format())
	}
	for _, left := range of {
		return out, NotWhole(left[0].Package + " " + left[0].Release)
	}
	return out, home.WriteJSON(filepath.Join(dir, exportFile), out)
}

// NotWhole says that no source has a package that has to be exported.
func NotWhole(without string) error {
	return &trouble.Trouble{Code: trouble.NoSource, What: "the export is not whole",
		Because: "no source has " + without + " any more",
		Next:    "dravit supply discard, supply the program again, and export that"}
}

// From makes an exported folder the only source. What comes from it is checked with the keys that the sources have.
// What nobody has signed is taken only if unsigned.
func (s Supplier) From(dir string, unsigned bool) (Supplier, error) {
	dir, err := filepath.Abs(dir)
	if err != nil {
		return s, err
	}
	if _, err := os.Stat(filepath.Join(dir, exportFile)); err != nil {
		return s, &trouble.Trouble{Code: trouble.NoSource, What: dir + " is no exported folder",
			Because: "it has no " + exportFile, Next: "dravit supply export FOLDER writes one", Err: err}
	}
	var x Exported
	if err := home.ReadJSON(filepath.Join(dir, exportFile), &x); err != nil {
		return s, err
	}
	var all []Source
	for _, own := range s.Sources {
		from, err := own.From(dir, x, unsigned)
		if err != nil {
			return s, err
		}
		if from != nil {
			all = append(all, from)
		}
	}
	s.Sources = all
	return s, nil
}
