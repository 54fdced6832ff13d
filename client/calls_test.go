package client_test

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"reflect"
	"slices"
	"strings"
	"testing"

	"github.com/goccy/go-yaml"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"usherbench/api"
	"usherbench/client"
)

// A call of the client is one of its methods, with the arguments that a test gives it.
type call struct {
	name string
	do   func(ctx context.Context, server string) error
}

// calls lists every method of the client that asks the service for something, filled with arguments of every type.
func calls() (all []call) {
	of := reflect.TypeFor[*client.Client]()
	for i := range of.NumMethod() {
		m := of.Method(i)
		all = append(all, call{m.Name, func(ctx context.Context, server string) error {
			in := []reflect.Value{reflect.ValueOf(&client.Client{Server: server, Token: "secret"}), reflect.ValueOf(ctx)}
			for k := 2; k < m.Type.NumIn(); k++ {
				in = append(in, argument(m.Type.In(k)))
			}
			ask := m.Func.Call
			if m.Type.IsVariadic() {
				ask = m.Func.CallSlice
			}
			out := ask(in)
			err, _ := out[len(out)-1].Interface().(error)
			return err
		}})
	}
	return all
}

// argument is something of a type: texts with what must be escaped in an address, numbers that are not 0.
func argument(of reflect.Type) reflect.Value {
	v := reflect.New(of).Elem()
	switch {
	case of == reflect.TypeFor[io.Writer]():
		v.Set(reflect.ValueOf(io.Discard))
	case of == reflect.TypeFor[io.Reader]():
		v.Set(reflect.ValueOf(strings.NewReader("seconds,volts\n")))
	case of == reflect.TypeFor[func(client.Event) error]():
		v.Set(reflect.ValueOf(func(client.Event) error { return errDone }))
	case of.Kind() == reflect.String:
		v.SetString("a/b c?d")
	case v.CanInt():
		v.SetInt(7)
	case v.CanUint():
		v.SetUint(7)
	case v.CanFloat():
		v.SetFloat(7)
	case of == reflect.TypeFor[[]string]():
		v.Set(reflect.ValueOf([]string{"load.volts"}))
	}
	return v
}

// operation is a method and a route of the interface's description.
type operation struct {
	Parameters []struct {
		Name, In string
	}
	RequestBody map[string]any `yaml:"requestBody"`
}

// documented reads the description of the interface: routes, methods, operations.
func documented(t *testing.T) map[string]map[string]operation {
	var d struct {
		Paths map[string]map[string]operation
	}
	require.NoError(t, yaml.Unmarshal(api.OpenAPI, &d))
	require.NotEmpty(t, d.Paths)
	return d.Paths
}

// routeOf finds the route to which an address belongs, its own parts before its parameters.
func routeOf(routes map[string]map[string]operation, method, escaped string) (route string) {
	asked, fewest := strings.Split(escaped, "/"), 100
	for r, methods := range routes {
		parts, parameters := strings.Split(r, "/"), 0
		fits := len(parts) == len(asked)
		for k := 0; fits && k < len(parts); k++ {
			if strings.HasPrefix(parts[k], "{") {
				parameters++
			} else {
				fits = parts[k] == asked[k]
			}
		}
		if _, ok := methods[strings.ToLower(method)]; ok && fits && parameters < fewest {
			route, fewest = r, parameters
		}
	}
	return route
}

// Whatever the client asks for is in the description of the interface, with every parameter of the address and with a
// body where one is due; and there is nothing to ask for that the client does not know.
func TestTheClientAsksForWhatIsDocumented(t *testing.T) {
	routes := documented(t)
	known := map[string]bool{}
	for _, c := range calls() {
		asked := 0
		server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			asked++
			route := routeOf(routes, r.Method, r.URL.EscapedPath())
			if !assert.NotEmpty(t, route, "%s: %s %s is not documented", c.name, r.Method, r.URL.EscapedPath()) {
				return
			}
			o := routes[route][strings.ToLower(r.Method)]
			known[r.Method+" "+route] = true
			for name := range r.URL.Query() {
				assert.True(t, slices.ContainsFunc(o.Parameters, func(p struct{ Name, In string }) bool {
					return p.In == "query" && p.Name == name
				}), "%s: %s %s knows no parameter %s", c.name, r.Method, route, name)
			}
			body, err := io.ReadAll(r.Body)
			assert.NoError(t, err)
			if len(body) > 0 {
				assert.NotEmpty(t, o.RequestBody, "%s sends a body to %s %s", c.name, r.Method, route)
			}
			assert.Equal(t, "Bearer secret", r.Header.Get("Authorization"), c.name)
			if strings.HasSuffix(route, "/live") {
				fmt.Fprint(w, "id: 1\nevent: mark\ndata: {}\n\n")
				return
			}
			w.WriteHeader(http.StatusNoContent)
		}))
		if err := c.do(limited(t), server.URL); err != nil {
			assert.ErrorIs(t, err, errDone, c.name)
		}
		assert.Equal(t, 1, asked, "%s asks once", c.name)
		server.Close()
	}
	for route, methods := range routes {
		for method := range methods {
			what := strings.ToUpper(method) + " " + route
			assert.True(t, known[what] || slices.Contains(notForTheClient, what), "the client does not know %s", what)
		}
	}
}

// notForTheClient are routes for others: for monitors, for tools that read the description, and for the editors of the
// console, which check what is being typed. The command line does that without a service.
var notForTheClient = []string{"GET /metrics", "GET /api/v1/openapi.json", "GET /api/v1/chemistries",
	"POST /api/v1/dialects/check", "POST /api/v1/nameplates/check", "POST /api/v1/tables/export"}

// A problem document comes back as what it is from every call, an address at which nobody answers as that, and one who
// does not want to wait any longer is not kept.
func TestEveryCallFailsAsItShould(t *testing.T) {
	refusing := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "application/problem+json")
		w.WriteHeader(http.StatusConflict)
		fmt.Fprint(w, `{"title":"Busy","status":409,"detail":"bay1 runs","remedy":"wait for its end"}`)
	}))
	defer refusing.Close()
	gone := httptest.NewServer(http.NotFoundHandler())
	gone.Close()
	over, cancel := context.WithCancel(t.Context())
	cancel()
	for _, c := range calls() {
		var p *api.Problem
		if assert.ErrorAs(t, c.do(limited(t), refusing.URL), &p, c.name) {
			assert.Equal(t, api.Problem{Title: "Busy", Status: 409, Detail: "bay1 runs", Remedy: "wait for its end"}, *p, c.name)
		}
		assert.ErrorIs(t, c.do(over, gone.URL), context.Canceled, c.name)
		if c.name == "Live" { // it waits until somebody answers again
			continue
		}
		err := c.do(limited(t), gone.URL)
		assert.ErrorIs(t, err, client.ErrUnreachable, c.name)
		assert.ErrorContains(t, err, "usher serve", "it says what to do")
	}
}

// What is downloaded arrives whole, and what breaks off is an error.
func TestADownloadThatBreaksOffIsAnError(t *testing.T) {
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Length", "20")
		fmt.Fprint(w, "0123456789")
		if r.URL.Query().Get("format") == "csv" {
			fmt.Fprint(w, "0123456789")
		}
	}))
	defer server.Close()
	c := &client.Client{Server: server.URL}
	var whole, part bytes.Buffer
	require.NoError(t, c.Export(limited(t), "last", "csv", client.Range{From: 1.5}, &whole))
	assert.Equal(t, "01234567890123456789", whole.String())
	assert.ErrorIs(t, c.Export(limited(t), "last", "json", client.Range{}, &part), io.ErrUnexpectedEOF)
}
