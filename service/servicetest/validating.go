package servicetest

import (
	"bytes"
	"io"
	"net/http"
	"strings"
	"sync"
	"testing"

	"github.com/pb33f/libopenapi"
	validator "github.com/pb33f/libopenapi-validator"

	"usherbench/api"
)

// Document is the OpenAPI document with a validator for traffic.
var Document = sync.OnceValues(func() (validator.Validator, error) {
	document, err := libopenapi.NewDocument(api.OpenAPI)
	if err != nil {
		return nil, err
	}
	v, errs := validator.NewValidator(document)
	if len(errs) > 0 {
		return nil, errs[0]
	}
	return v, nil
})

// validating holds every request and answer against the OpenAPI document.
type validating struct {
	t    testing.TB
	wire http.RoundTripper
}

func (v validating) RoundTrip(request *http.Request) (*http.Response, error) {
	response, err := v.wire.RoundTrip(request)
	if err != nil || request.URL.Path == "/api/v1/live" {
		return response, err
	}
	kind := response.Header.Get("Content-Type")
	if !strings.Contains(kind, "json") || strings.HasSuffix(request.URL.Path, "/export") {
		return response, nil
	}
	body, err := io.ReadAll(response.Body)
	if err != nil {
		return nil, err
	}
	response.Body.Close()
	response.Body = io.NopCloser(bytes.NewReader(body))
	document, err := Document()
	if err != nil {
		v.t.Errorf("OpenAPI document: %v", err)
		return response, nil
	}
	copied := *response
	copied.Body = io.NopCloser(bytes.NewReader(body))
	if ok, errs := document.ValidateHttpResponse(request, &copied); !ok {
		for _, e := range errs {
			v.t.Errorf("%s %s answered %d against the OpenAPI document: %s: %s %v", request.Method, request.URL.Path,
				response.StatusCode, e.Message, e.Reason, e.SchemaValidationErrors)
		}
	}
	return response, nil
}
