package api

import (
	"encoding/json"
	"fmt"
	"net/http"
	"reflect"
	"regexp"
	"strconv"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"arithmon/internal/core/codec"
	"arithmon/internal/core/reading"
	"arithmon/internal/core/site"
	"arithmon/internal/live/traffic"
)

// object is a JSON object.
type object = map[string]any

// schemas makes OpenAPI 3.0 schemas of Go types: of each named struct one component, with the descriptions (doc) and
// the possible values (enum) that its field tags give.
type schemas struct {
	components object
	types      map[string]reflect.Type // by the name of their component
}

var text = object{"type": "string"}

// special are the types that write their JSON themselves.
var special = map[reflect.Type]object{
	reflect.TypeFor[codec.Value]():        {"nullable": true, "oneOf": []object{{"type": "boolean"}, {"type": "number"}, text}},
	reflect.TypeFor[reading.Quality]():    text,
	reflect.TypeFor[site.Duration]():      text,
	reflect.TypeFor[traffic.Kind]():       text,
	reflect.TypeFor[site.Address]():       text,
	reflect.TypeFor[time.Time]():          {"type": "string", "format": "date-time"},
	reflect.TypeFor[reading.DeviceTime](): {"type": "string", "format": "date-time"},
	reflect.TypeFor[json.RawMessage]():    {"type": "object", "additionalProperties": true},
	reflect.TypeFor[site.States]():        {"oneOf": []object{{"type": "array", "items": text}, {"type": "object", "additionalProperties": text}}},
	reflect.TypeFor[reading.Raw]():        {"nullable": true, "type": "object", "properties": object{"words": object{"type": "array", "items": text}, "bit": object{"type": "integer"}, "object": text}},
}

// of returns the schema of a type, a reference for a named struct.
func (s schemas) of(t reflect.Type) object {
	if known, ok := special[t]; ok {
		return known
	}
	switch t.Kind() {
	case reflect.Pointer:
		schema := object{"nullable": true}
		for k, v := range s.of(t.Elem()) {
			schema[k] = v
		}
		return schema
	case reflect.Struct:
		name := typeName(t)
		if other, taken := s.types[name]; taken && other != t {
			panic(fmt.Sprintf("openapi: %s and %s have one name", t, other)) // a test makes the description
		}
		s.types[name] = t
		if s.components[name] == nil {
			s.components[name] = object{} // so that a type may hold itself
			s.components[name] = s.structure(t)
		}
		return object{"$ref": "#/components/schemas/" + name}
	case reflect.Slice:
		return object{"type": "array", "items": s.of(t.Elem())}
	case reflect.Array:
		return object{"type": "array", "items": s.of(t.Elem()), "minItems": t.Len(), "maxItems": t.Len()}
	case reflect.Map:
		return object{"type": "object", "additionalProperties": s.of(t.Elem())}
	case reflect.Bool:
		return object{"type": "boolean"}
	case reflect.String:
		return text
	case reflect.Float64:
		return object{"type": "number"}
	}
	return object{"type": "integer"}
}

func (s schemas) structure(t reflect.Type) object {
	properties, required := object{}, []string{}
	for _, field := range reflect.VisibleFields(t) {
		name, options, _ := strings.Cut(field.Tag.Get("json"), ",")
		if name == "" || name == "-" || properties[name] != nil {
			continue
		}
		schema := s.of(field.Type)
		doc, enum := field.Tag.Get("doc"), field.Tag.Get("enum")
		if doc != "" || enum != "" {
			own := object{}
			for k, v := range schema {
				own[k] = v
			}
			if ref, is := own["$ref"]; is { // beside a reference nothing else counts
				own = object{"allOf": []object{{"$ref": ref}}}
			}
			if doc != "" {
				own["description"] = doc
			}
			if enum != "" {
				own["enum"] = strings.Split(enum, ",")
			}
			schema = own
		}
		properties[name] = schema
		if !strings.Contains(options, "omit") {
			required = append(required, name)
		}
	}
	schema := object{"type": "object", "properties": properties}
	if len(required) > 0 {
		schema["required"] = required
	}
	return schema
}

// typeName names a type's schema; pages are named after what they hold.
func typeName(t reflect.Type) string {
	name := t.Name()
	if inner, ok := strings.CutPrefix(name, "Page["); ok {
		inner = strings.TrimSuffix(inner, "]")
		return inner[strings.LastIndex(inner, ".")+1:] + "Page"
	}
	return name
}

var pathParameter = regexp.MustCompile(`[:*](\w+)`)

// Description returns the OpenAPI document of the API, made from its routes and their types.
func Description() object {
	s := schemas{components: object{}, types: map[string]reflect.Type{}}
	content := func(media string, v any) object {
		return object{media: object{"schema": s.of(reflect.TypeOf(v))}}
	}
	s.of(reflect.TypeFor[LiveRequest]()) // goes over the WebSocket, so that no route names it
	paths := map[string]object{}
	for _, r := range new(Server).routes() {
		parameters := []object{}
		for _, m := range pathParameter.FindAllStringSubmatch(r.path, -1) {
			parameters = append(parameters, object{"name": m[1], "in": "path", "required": true, "schema": text})
		}
		for _, q := range r.query {
			parameters = append(parameters, object{"name": q.name, "in": "query", "description": q.doc, "schema": text})
		}
		answer := object{"description": r.summary}
		if r.answer != nil {
			answer["content"] = content("application/json", r.answer)
		}
		operation := object{
			"summary": r.summary, "parameters": parameters,
			"responses": object{
				strconv.Itoa(r.status): answer,
				"default":              object{"description": "a problem", "content": content("application/problem+json", Problem{})},
			},
		}
		if r.body != nil {
			operation["requestBody"] = object{"required": true, "content": content("application/json", r.body)}
		}
		path := pathParameter.ReplaceAllString(r.path, "{$1}")
		if paths[path] == nil {
			paths[path] = object{}
		}
		paths[path][strings.ToLower(r.method)] = operation
	}
	return object{
		"openapi":    "3.0.3",
		"info":       object{"title": "Arithmon", "version": "v1", "description": "A shared point database for Modbus devices, and its live readings."},
		"paths":      paths,
		"components": object{"schemas": s.components},
	}
}

func (s *Server) openapi(c *gin.Context) error {
	c.JSON(http.StatusOK, Description())
	return nil
}

// DescriptionJSON is the OpenAPI document as it is committed for the console's types.
func DescriptionJSON() ([]byte, error) {
	b, err := json.MarshalIndent(Description(), "", "  ")
	return append(b, '\n'), err
}
