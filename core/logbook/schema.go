package logbook

import (
	"encoding/json"
	"reflect"

	"github.com/invopop/jsonschema"

	"vividstrain/core/load"
)

// JSONSchema returns the JSON Schema (draft 2020-12) of the run document, made from the Go
// types.
func JSONSchema() ([]byte, error) {
	r := &jsonschema.Reflector{
		Anonymous:                 true,
		AllowAdditionalProperties: true, // fields may be added
		Mapper: func(t reflect.Type) *jsonschema.Schema {
			if t == reflect.TypeFor[load.Load]() {
				return &jsonschema.Schema{Type: "string", Description: "a load line"}
			}
			return nil
		},
	}
	s := r.Reflect(&Document{})
	s.Title = "Vivid Strain run document"
	return json.MarshalIndent(s, "", "  ")
}
