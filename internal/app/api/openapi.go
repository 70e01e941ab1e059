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
	reflect.TypeFor[Numbers]():            {"type": "array", "items": object{"type": "number", "nullable": true}},
	reflect.TypeFor[site.State]():         {"oneOf": []object{text, {"type": "number"}, {"type": "boolean"}}},
	reflect.TypeFor[site.Sampling](): {"oneOf": []object{{"type": "boolean"}, {"type": "object", "properties": object{
		"deadband": object{"type": "number"}, "at_least": text, "every": text}}}},
	reflect.TypeFor[reading.Raw](): {"nullable": true, "type": "object", "properties": object{"words": object{"type": "array", "items": text}, "bit": object{"type": "integer"}, "object": text}},
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
	case reflect.Interface:
		return object{"nullable": true} // of any shape
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
	content := func(v any) object {
		binary := object{"schema": object{"type": "string", "format": "binary"}}
		switch v := v.(type) {
		case media:
			return object{string(v): binary}
		case lines:
			return object{"application/x-ndjson": object{"schema": s.of(reflect.TypeOf(v.of))}}
		case anything:
			return object{"application/json": object{"schema": object{"type": "object"}}}
		}
		return object{"application/json": object{"schema": s.of(reflect.TypeOf(v))}}
	}
	problem := object{"application/problem+json": object{"schema": s.of(reflect.TypeFor[Problem]())}}
	s.of(reflect.TypeFor[LiveRequest]()) // goes over the WebSocket, so that no route names it
	paths := map[string]object{}
	for _, r := range new(Server).routes() {
		parameters := []object{}
		for _, m := range pathParameter.FindAllStringSubmatch(r.path, -1) {
			parameters = append(parameters, object{"name": m[1], "in": "path", "required": true, "schema": text})
		}
		for _, q := range r.query {
			schema := q.is
			if schema == nil {
				schema = text
			}
			if q.many {
				schema = object{"type": "array", "items": schema}
			}
			parameters = append(parameters, object{"name": q.name, "in": "query", "description": q.doc, "schema": schema})
		}
		answer := object{"description": r.summary}
		if r.answer != nil {
			answer["content"] = content(r.answer)
		}
		refusals := object{strconv.Itoa(r.status): answer, "default": object{"description": "a problem", "content": problem}}
		for status, why := range map[int]string{400: "a parameter or header is wrong", 404: "there is no such thing", 409: "it is in use, or not possible now", 412: "it has another version than If-Match", 422: "fields are wrong, one entry each"} {
			if r.refuses(status) {
				refusals[strconv.Itoa(status)] = object{"description": why, "content": problem}
			}
		}
		if r.versioned() {
			answer["headers"] = object{"ETag": object{"description": "the version of the entity", "schema": text}}
			if r.method != "GET" {
				parameters = append(parameters, object{"name": "If-Match", "in": "header", "description": "the version that is to be changed; * or nothing for any", "schema": text})
			}
		}
		operation := object{"operationId": r.id(), "summary": r.summary, "parameters": parameters, "responses": refusals}
		if r.body != nil {
			operation["requestBody"] = object{"required": true, "content": content(r.body)}
		}
		path := pathParameter.ReplaceAllString(r.path, "{$1}")
		if paths[path] == nil {
			paths[path] = object{}
		}
		paths[path][strings.ToLower(r.method)] = operation
	}
	return object{
		"openapi":    "3.0.3",
		"info":       object{"title": "Arithmon", "version": "v1", "description": "A shared point database for Modbus and DNP3 devices, and its live readings. Lists come in pages: limit says how many items one has at most, and cursor is next of the page before. An entity has an ETag; If-Match changes it only while that is its version. Refusals are problem documents (RFC 9457) with an entry for each wrong field."},
		"paths":      paths,
		"components": object{"schemas": s.components},
	}
}

// versioned reports whether a route is about one entity, which has a version.
func (r route) versioned() bool {
	for kind, as := range kinds {
		if r.path == "/api/v1/"+site.Plural(kind)+as.path {
			return true
		}
	}
	return false
}

// refuses reports whether a status may be the answer of a route beside its own.
func (r route) refuses(status int) bool {
	named := pathParameter.MatchString(r.path)
	changes := r.method != "GET"
	switch status {
	case 400:
		return len(r.query) > 0 || r.body != nil || r.versioned() && changes
	case 404:
		return named
	case 409:
		return changes && named
	case 412:
		return changes && r.versioned()
	case 422:
		return r.body != nil
	}
	return false
}

// verbs are what methods are called in operation identifiers.
var verbs = map[string]string{"GET": "get", "POST": "post", "PUT": "replace", "PATCH": "change", "DELETE": "remove"}

// id is the identifier of a route's operation, such as getLinksName, made of its method and path.
func (r route) id() string {
	var b strings.Builder
	b.WriteString(verbs[r.method])
	for part := range strings.FieldsFuncSeq(strings.TrimPrefix(r.path, "/api/v1"), func(c rune) bool { return strings.ContainsRune("/:*._", c) }) {
		b.WriteString(strings.ToUpper(part[:1]) + part[1:])
	}
	return b.String()
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
