package api

import (
	"encoding/json"
	"net/http"
	"reflect"
	"regexp"
	"strings"

	"github.com/getkin/kin-openapi/openapi3"
	"github.com/getkin/kin-openapi/openapi3gen"
	"github.com/gin-gonic/gin"

	"arithmon/internal/codec"
	"arithmon/internal/reading"
	"arithmon/internal/site"
)

// Description returns the OpenAPI document of the API, made from its routes and their types.
func Description() (*openapi3.T, error) {
	doc := &openapi3.T{
		OpenAPI:    "3.0.3",
		Info:       &openapi3.Info{Title: "Arithmon", Version: "v1", Description: "A shared point database for Modbus and DNP3 devices, and its live readings."},
		Paths:      openapi3.NewPaths(),
		Components: &openapi3.Components{Schemas: openapi3.Schemas{}},
	}
	generator := openapi3gen.NewGenerator(
		openapi3gen.CreateComponentSchemas(openapi3gen.ExportComponentSchemasOptions{ExportComponentSchemas: true, ExportTopLevelSchema: true}),
		openapi3gen.CreateTypeNameGenerator(typeName),
		openapi3gen.SchemaCustomizer(customize))
	schema := func(v any) (*openapi3.SchemaRef, error) {
		return generator.NewSchemaRefForValue(v, doc.Components.Schemas)
	}
	fault, err := schema(Problem{})
	if err != nil {
		return nil, err
	}
	if _, err := schema(LiveRequest{}); err != nil { // goes over the WebSocket, so that no route names it
		return nil, err
	}
	for _, r := range new(Server).routes() {
		op := openapi3.NewOperation()
		op.Summary = r.summary
		path, parameters := pathOf(r.path)
		op.Parameters = parameters
		for _, q := range r.query {
			op.AddParameter(openapi3.NewQueryParameter(q.name).WithDescription(q.doc).WithSchema(openapi3.NewStringSchema()))
		}
		if r.body != nil {
			ref, err := schema(r.body)
			if err != nil {
				return nil, err
			}
			op.RequestBody = &openapi3.RequestBodyRef{Value: openapi3.NewRequestBody().WithRequired(true).WithJSONSchemaRef(ref)}
		}
		answer := openapi3.NewResponse().WithDescription(r.summary)
		if r.answer != nil {
			ref, err := schema(r.answer)
			if err != nil {
				return nil, err
			}
			answer.WithJSONSchemaRef(ref)
		}
		op.AddResponse(r.status, answer)
		op.Responses.Set("default", &openapi3.ResponseRef{Value: openapi3.NewResponse().WithDescription("a problem").
			WithContent(openapi3.NewContentWithSchemaRef(fault, []string{"application/problem+json"}))})
		item := doc.Paths.Value(path)
		if item == nil {
			item = &openapi3.PathItem{}
			doc.Paths.Set(path, item)
		}
		item.SetOperation(r.method, op)
	}
	return doc, nil
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

func pathOf(path string) (string, openapi3.Parameters) {
	var parameters openapi3.Parameters
	for _, m := range pathParameter.FindAllStringSubmatch(path, -1) {
		parameters = append(parameters, &openapi3.ParameterRef{Value: openapi3.NewPathParameter(m[1]).WithSchema(openapi3.NewStringSchema())})
	}
	return pathParameter.ReplaceAllString(path, "{$1}"), parameters
}

// customize says of types and fields what their Go types do not.
func customize(_ string, t reflect.Type, tag reflect.StructTag, schema *openapi3.Schema) error {
	for t.Kind() == reflect.Pointer {
		t = t.Elem()
	}
	text := openapi3.NewStringSchema()
	switch t {
	case reflect.TypeFor[codec.Value]():
		*schema = openapi3.Schema{Nullable: true, OneOf: openapi3.SchemaRefs{
			openapi3.NewSchemaRef("", openapi3.NewBoolSchema()), openapi3.NewSchemaRef("", openapi3.NewFloat64Schema()), openapi3.NewSchemaRef("", text)}}
	case reflect.TypeFor[reading.Quality](), reflect.TypeFor[site.Duration](), reflect.TypeFor[site.Address]():
		*schema = *text
	case reflect.TypeFor[site.States]():
		*schema = openapi3.Schema{OneOf: openapi3.SchemaRefs{
			openapi3.NewSchemaRef("", openapi3.NewArraySchema().WithItems(text)), openapi3.NewSchemaRef("", openapi3.NewObjectSchema().WithAdditionalProperties(text))}}
	case reflect.TypeFor[reading.Raw]():
		*schema = *openapi3.NewObjectSchema().WithProperty("words", openapi3.NewArraySchema().WithItems(text)).
			WithProperty("bit", openapi3.NewIntegerSchema()).WithProperty("object", text).WithNullable()
	case reflect.TypeFor[json.RawMessage]():
		*schema = *openapi3.NewObjectSchema().WithAnyAdditionalProperties()
	default:
		if t.Kind() == reflect.Struct && schema.Properties != nil {
			schema.Required = required(t)
		}
	}
	if doc := tag.Get("doc"); doc != "" {
		schema.Description = doc
	}
	if values := tag.Get("enum"); values != "" {
		for v := range strings.SplitSeq(values, ",") {
			schema.Enum = append(schema.Enum, v)
		}
	}
	return nil
}

// required lists the fields that are always there.
func required(t reflect.Type) (names []string) {
	for _, field := range reflect.VisibleFields(t) {
		name, options, _ := strings.Cut(field.Tag.Get("json"), ",")
		if name != "" && name != "-" && !strings.Contains(options, "omit") {
			names = append(names, name)
		}
	}
	return names
}

func (s *Server) openapi(c *gin.Context) error {
	doc, err := Description()
	if err != nil {
		return err
	}
	c.JSON(http.StatusOK, doc)
	return nil
}

// DescriptionJSON is the OpenAPI document as it is committed for the console's types.
func DescriptionJSON() ([]byte, error) {
	doc, err := Description()
	if err != nil {
		return nil, err
	}
	b, err := json.MarshalIndent(doc, "", "  ")
	return append(b, '\n'), err
}
