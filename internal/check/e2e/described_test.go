package e2e

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"net/http"
	"os"
	"strings"
	"sync"

	"github.com/getkin/kin-openapi/openapi3"
	"github.com/getkin/kin-openapi/openapi3filter"
	"github.com/getkin/kin-openapi/routers"
	"github.com/getkin/kin-openapi/routers/gorillamux"

	"arithmon/internal/app/api"
)

// described is a way to the service that compares every response with the description of the API.
type described struct {
	next   http.RoundTripper
	router routers.Router

	mu     sync.Mutex
	faults map[string]bool
	seen   map[string]bool // operations
}

func newDescribed(next http.RoundTripper) (*described, error) {
	b, err := api.DescriptionJSON()
	if err != nil {
		return nil, err
	}
	doc, err := openapi3.NewLoader().LoadFromData(b)
	if err != nil {
		return nil, err
	}
	router, err := gorillamux.NewRouter(doc)
	return &described{next: next, router: router, faults: map[string]bool{}, seen: map[string]bool{}}, err
}

// RoundTrip makes a request and looks at the response when the description has the operation.
func (d *described) RoundTrip(r *http.Request) (*http.Response, error) {
	response, err := d.next.RoundTrip(r)
	if err != nil || !strings.HasPrefix(r.URL.Path, "/api/") && r.URL.Path != "/healthz" || response.StatusCode == http.StatusSwitchingProtocols {
		return response, err
	}
	if is := response.Header.Get("Content-Type"); !strings.HasPrefix(is, "application/json") && !strings.HasPrefix(is, "application/problem+json") {
		return response, nil // what goes on for as long as somebody reads it, or is no JSON
	}
	route, parameters, fault := d.router.FindRoute(r)
	if fault != nil {
		return response, nil // a path or method that tests try in vain
	}
	body, err := io.ReadAll(response.Body)
	if err != nil {
		return nil, err
	}
	response.Body.Close()
	response.Body = io.NopCloser(bytes.NewReader(body))
	fault = openapi3filter.ValidateResponse(context.Background(), &openapi3filter.ResponseValidationInput{
		RequestValidationInput: &openapi3filter.RequestValidationInput{Request: r, PathParams: parameters, Route: route},
		Status:                 response.StatusCode, Header: response.Header, Body: io.NopCloser(bytes.NewReader(body)),
		Options: &openapi3filter.Options{IncludeResponseStatus: true},
	})
	d.mu.Lock()
	defer d.mu.Unlock()
	d.seen[route.Operation.OperationID] = true
	if fault != nil {
		text := fault.Error()
		d.faults[fmt.Sprintf("%s %s answers %d otherwise than described: %s", r.Method, route.Path, response.StatusCode, text[:min(len(text), 600)])] = true
	}
	return response, nil
}

// judge says what was not as described, and fails the run then.
func (d *described) judge(code int) int {
	d.mu.Lock()
	defer d.mu.Unlock()
	for fault := range d.faults {
		fmt.Fprintln(os.Stderr, "FAIL:", fault)
		code = 1
	}
	return code
}
