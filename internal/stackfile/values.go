package stackfile

import (
	"cmp"
	"crypto/sha256"
	"encoding/json"
	"fmt"
	"strings"
)

// Values returns the values that a stack file sets, by their paths: part.app.settings.memory_limit, site.ferry.root.
// Values of [env] may be secret, so it returns digests of those.
func (f *File) Values() map[string]string {
	text, err := json.Marshal(f)
	var tree map[string]any
	if err == nil {
		err = json.Unmarshal(text, &tree)
	}
	if err != nil {
		panic(err) // a File consists of texts, lists and tables
	}
	out := map[string]string{}
	for key, v := range tree {
		flatten(out, key, v)
	}
	return out
}

func flatten(out map[string]string, path string, v any) {
	switch v := v.(type) {
	case nil:
	case map[string]any:
		for key, x := range v {
			switch key {
			case "also": // it comes from other files
			case "of": // in the file, tables below the part's own
				for kind, own := range x.(map[string]any) {
					delete(own.(map[string]any), "kind")
					flatten(out, path+"."+kind, own)
				}
			default:
				flatten(out, path+"."+key, x)
			}
		}
	case []any:
		var words []string
		for i, x := range v {
			switch x := x.(type) {
			case map[string]any:
				name, _ := x["name"].(string)
				each, _ := x["each"].(string)
				flatten(out, path+"."+cmp.Or(name, each, fmt.Sprint(i+1)), x)
			default:
				words = append(words, fmt.Sprint(x))
			}
		}
		if words != nil {
			out[path] = strings.Join(words, ", ")
		}
	default:
		out[path] = fmt.Sprint(v)
		if strings.HasPrefix(path, "env.") {
			out[path] = fmt.Sprintf("%x", sha256.Sum256([]byte(out[path])))
		}
	}
}
