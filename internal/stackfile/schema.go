package stackfile

import (
	"maps"
	"reflect"
	"slices"
)

// Schema returns the JSON Schema (draft 2020-12) of a stack file, made from the types that Read fills.
func Schema(words Vocabulary) map[string]any {
	kinds := slices.Sorted(maps.Keys(words))
	s := object(reflect.TypeFor[File](), kinds)
	s["$schema"] = "https://json-schema.org/draft/2020-12/schema"
	s["title"] = "Dravit stack file"
	own := object(reflect.TypeFor[PartConfig](), kinds)
	delete(own, "required")
	delete(own["properties"].(map[string]any), "kind")
	s["$defs"] = map[string]any{"ofOneKind": own}
	return s
}

func object(t reflect.Type, kinds []string) map[string]any {
	props, required := map[string]any{}, []string{}
	for i := range t.NumField() {
		f := t.Field(i)
		key := f.Tag.Get("toml")
		if key == "-" {
			continue
		}
		rule := keyRules[t][key]
		p := schemaOf(f.Type, rule, kinds)
		p["description"] = rule.doc
		props[key] = p
		if rule.required {
			required = append(required, key)
		}
	}
	o := map[string]any{"type": "object", "additionalProperties": false, "properties": props}
	if len(required) > 0 {
		o["required"] = required
	}
	return o
}

func schemaOf(t reflect.Type, rule keyRule, kinds []string) map[string]any {
	text := map[string]any{"type": "string"}
	switch reflect.Zero(t).Interface().(type) {
	case Texts:
		text["enum"] = kinds
		return map[string]any{"oneOf": []any{text, map[string]any{
			"type":        "array",
			"items":       text,
			"minItems":    1,
			"uniqueItems": true,
		}}}
	case []string:
		if p := rule.items; p != "" {
			text["pattern"] = p
		}
		return map[string]any{"type": "array", "items": text, "uniqueItems": true}
	case map[string]Text:
		value := map[string]any{"type": []string{"string", "number", "boolean"}}
		if rule.keys != "" { // a name with a dot may also be written as a table
			value = map[string]any{"type": []string{"string", "number", "boolean", "object"}}
		}
		return map[string]any{"type": "object", "additionalProperties": value}
	case map[string]PartConfig:
		part := object(t.Elem(), kinds)
		props := part["properties"].(map[string]any)
		for _, kind := range kinds {
			if _, taken := props[kind]; !taken {
				props[kind] = map[string]any{
					"$ref":        "#/$defs/ofOneKind",
					"description": "Keys that apply only if the part is of kind " + kind + ".",
				}
			}
		}
		return map[string]any{
			"type":                 "object",
			"additionalProperties": part,
			"propertyNames":        map[string]any{"pattern": partName().String()},
		}
	case map[string]Require:
		value := map[string]any{"oneOf": []any{map[string]any{"type": "string"}, object(t.Elem(), kinds)}}
		return map[string]any{
			"type":                 "object",
			"additionalProperties": value,
			"propertyNames":        map[string]any{"pattern": toolName().String()},
		}
	case []SiteConfig:
		site := object(t.Elem(), kinds)
		site["oneOf"] = []any{
			map[string]any{"required": []string{"name"}},
			map[string]any{"required": []string{"each"}},
		}
		return map[string]any{"type": "array", "items": site}
	case []TaskConfig:
		return map[string]any{"type": "array", "items": object(t.Elem(), kinds)}
	case *bool:
		return map[string]any{"type": "boolean"}
	case *Dotenv:
		text["pattern"] = keyRules[t.Elem()]["file"].pattern
		return map[string]any{"oneOf": []any{text, object(t.Elem(), kinds)}}
	case *Expect, *Requirements, *Proof:
		return object(t.Elem(), kinds)
	}
	switch t.Kind() {
	case reflect.Int:
		return map[string]any{"type": "integer", "minimum": rule.minimum, "maximum": rule.maximum}
	case reflect.Bool:
		return map[string]any{"type": "boolean"}
	}
	if p := rule.pattern; p != "" {
		text["pattern"] = p
	}
	return text
}
