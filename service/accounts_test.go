package service_test

import (
	"bytes"
	"encoding/json"
	"net/http"
	"os"
	"strings"
	"testing"

	"github.com/goccy/go-yaml"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"usherbench/api"
	"usherbench/client"
	"usherbench/service"
	"usherbench/service/servicetest"
)

type operation struct {
	Role       string      `yaml:"x-role"`
	Security   *[]any      `yaml:"security"`
	Parameters []parameter `yaml:"parameters"`
}

type parameter struct{ In, Name string }

// operations reads every operation of the OpenAPI document, as "GET /path".
func operations(t *testing.T) map[string]operation {
	var document struct {
		Paths map[string]map[string]operation
	}
	require.NoError(t, yaml.Unmarshal(api.OpenAPI, &document))
	all := map[string]operation{}
	for path, methods := range document.Paths {
		for method, o := range methods {
			all[strings.ToUpper(method)+" "+path] = o
		}
	}
	return all
}

func request(t *testing.T, h *servicetest.House, operation, token string) *http.Response {
	method, path, _ := strings.Cut(operation, " ")
	for _, name := range []string{"bay", "run", "name"} {
		path = strings.ReplaceAll(path, "{"+name+"}", "none")
	}
	r, err := http.NewRequestWithContext(t.Context(), method, h.Running.URL+path, strings.NewReader("{}"))
	require.NoError(t, err)
	r.Header.Set("Content-Type", "application/json")
	if token != "" {
		r.Header.Set("Authorization", "Bearer "+token)
	}
	answer, err := h.HTTP().Do(r)
	require.NoError(t, err)
	answer.Body.Close()
	return answer
}

// The document names every route of the service and nothing else, and each needs exactly the role that the
// document says.
func TestTheDocumentAndTheRoutesAgree(t *testing.T) {
	servicetest.Simulated(t, func(t *testing.T) {
		h := servicetest.Start(t, servicetest.Options{Empty: true})
		documented := operations(t)
		for _, route := range h.Running.Service.Table() {
			o, ok := documented[route.Operation]
			require.True(t, ok, "%s is not documented", route.Operation)
			assert.Equal(t, string(route.Role), o.Role, route.Operation)
			assert.Equal(t, route.Role == "", o.Security != nil && len(*o.Security) == 0, "%s: security", route.Operation)
			delete(documented, route.Operation)
		}
		assert.Empty(t, documented, "documented, but not there")
	})
}

func TestWithoutATokenEveryRouteButTheOpenOnesRefuses(t *testing.T) {
	servicetest.Simulated(t, func(t *testing.T) {
		h := servicetest.Start(t, servicetest.Options{Empty: true})
		open := map[string]bool{"GET /health": true, "POST /api/v1/setup": true, "POST /api/v1/sign-in": true,
			"GET /api/v1/openapi.json": true}
		for operation := range operations(t) {
			for _, token := range []string{"", "not a token"} {
				answer := request(t, h, operation, token)
				if open[operation] {
					assert.NotEqual(t, http.StatusNotFound, answer.StatusCode, operation)
					continue
				}
				assert.Equal(t, http.StatusUnauthorized, answer.StatusCode, operation)
				assert.Equal(t, "application/problem+json", answer.Header.Get("Content-Type"), operation)
			}
		}
		assert.Equal(t, http.StatusUnauthorized, request(t, h, "GET /api/v1/nothing", "").StatusCode,
			"what does not exist is not told to strangers")
	})
}

func TestEachRoleMayDoWhatItsRankAllows(t *testing.T) {
	servicetest.Simulated(t, func(t *testing.T) {
		h := servicetest.Start(t, servicetest.Options{Empty: true})
		rank := map[string]int{"viewer": 1, "operator": 2, "engineer": 3, "admin": 4}
		for _, role := range []api.Role{api.Viewer, api.Operator, api.Engineer} {
			token := h.As(role).Token
			for operation, o := range operations(t) {
				if o.Role == "" || strings.Contains(operation, "sign-out") || strings.Contains(operation, "/live") {
					continue
				}
				status := request(t, h, operation, token).StatusCode
				if rank[o.Role] > rank[string(role)] {
					assert.Equal(t, http.StatusForbidden, status, "%s as %s", operation, role)
				} else {
					assert.NotContains(t, []int{http.StatusForbidden, http.StatusUnauthorized}, status, "%s as %s", operation, role)
				}
			}
		}
	})
}

func TestAViewerCannotStartAndAnOperatorCannotPush(t *testing.T) {
	servicetest.Simulated(t, func(t *testing.T) {
		h := servicetest.Start(t, servicetest.Options{})
		_, err := h.As(api.Viewer).StartRun(t.Context(), api.StartRun{Bay: "bay1", Procedure: "tern-load-steps",
			Serial: "TN-1"})
		var p *api.Problem
		require.ErrorAs(t, err, &p)
		assert.Equal(t, http.StatusForbidden, p.Status)
		assert.Contains(t, p.Remedy, "ask an admin")
		_, err = h.As(api.Operator).PushProcedure(t.Context(), "procedure: x", "")
		require.ErrorAs(t, err, &p)
		assert.Equal(t, http.StatusForbidden, p.Status)
	})
}

func TestTheFirstAccountIsMadeOnceWithTheCode(t *testing.T) {
	servicetest.Simulated(t, func(t *testing.T) {
		h := servicetest.Start(t, servicetest.Options{Empty: true})
		ctx := t.Context()
		health, err := h.Local.Health(ctx)
		require.NoError(t, err)
		assert.False(t, health.SetUp)
		code, err := h.Running.Service.SetupCode()
		require.NoError(t, err)
		anyone := h.Client("")
		_, err = anyone.SetUp(ctx, api.Setup{Code: "wrong", Name: "ada", Password: "a lantern in the fog"})
		assert.ErrorContains(t, err, "not valid")
		_, err = anyone.SetUp(ctx, api.Setup{Code: code, Name: "ada", Password: "short"})
		assert.ErrorContains(t, err, "at least 10")
		account, err := anyone.SetUp(ctx, api.Setup{Code: code, Name: "ada", Password: "a lantern in the fog"})
		require.NoError(t, err)
		assert.Equal(t, api.Admin, account.Role)
		_, err = anyone.SetUp(ctx, api.Setup{Code: code, Name: "eve", Password: "a lantern in the fog"})
		assert.ErrorContains(t, err, "not valid", "the link works once")
		code, err = h.Running.Service.SetupCode()
		require.NoError(t, err)
		assert.Empty(t, code)

		_, err = anyone.SignIn(ctx, "ada", "a lantern in the frog")
		assert.ErrorContains(t, err, "do not belong together")
		_, err = anyone.SignIn(ctx, "nobody", "a lantern in the fog")
		assert.ErrorContains(t, err, "do not belong together", "it is not told whether an account exists")
		signed, err := anyone.SignIn(ctx, "ADA", "a lantern in the fog")
		require.NoError(t, err)
		ada := h.Client(signed.Token)
		me, err := ada.Me(ctx)
		require.NoError(t, err)
		assert.Equal(t, "ada", me.Name)
		require.NoError(t, ada.SignOut(ctx))
		_, err = ada.Me(ctx)
		assert.ErrorContains(t, err, "Not signed in")
	})
}

func TestSignInIsLimited(t *testing.T) {
	servicetest.Simulated(t, func(t *testing.T) {
		h := servicetest.Start(t, servicetest.Options{Empty: true})
		anyone := h.Client("")
		for range 30 {
			_, err := anyone.SignIn(t.Context(), "ada", "guess after guess")
			var p *api.Problem
			require.ErrorAs(t, err, &p)
			if p.Status == http.StatusTooManyRequests {
				return
			}
		}
		t.Fatal("thirty guesses in a row were all answered")
	})
}

func TestABrowserSessionIsKeptFromScriptsAndOtherSites(t *testing.T) {
	h := servicetest.Start(t, servicetest.Options{Sockets: true, Empty: true})
	h.As(api.Operator)
	body, err := json.Marshal(api.SignIn{Name: "test operator", Password: "a lantern in the fog"})
	require.NoError(t, err)
	answer, err := http.Post(h.Running.URL+"/api/v1/sign-in", "application/json", bytes.NewReader(body))
	require.NoError(t, err)
	answer.Body.Close()
	require.Len(t, answer.Cookies(), 1)
	cookie := answer.Cookies()[0]
	assert.True(t, cookie.HttpOnly)
	assert.Equal(t, http.SameSiteStrictMode, cookie.SameSite)

	r, err := http.NewRequest(http.MethodPost, h.Running.URL+"/api/v1/stop-all", nil)
	require.NoError(t, err)
	r.AddCookie(cookie)
	for header, value := range map[string]string{"Sec-Fetch-Site": "cross-site", "Origin": "http://elsewhere.invalid"} {
		r.Header.Del("Sec-Fetch-Site")
		r.Header.Del("Origin")
		r.Header.Set(header, value)
		refused, err := http.DefaultClient.Do(r)
		require.NoError(t, err)
		refused.Body.Close()
		assert.Equal(t, http.StatusForbidden, refused.StatusCode, header)
	}
	r.Header.Del("Sec-Fetch-Site")
	r.Header.Set("Origin", h.Running.URL)
	own, err := http.DefaultClient.Do(r)
	require.NoError(t, err)
	own.Body.Close()
	assert.Equal(t, http.StatusOK, own.StatusCode, "its own page, in a browser that says nothing of sites")

	page, err := http.Get(h.Running.URL + "/")
	require.NoError(t, err)
	page.Body.Close()
	policy := page.Header.Get("Content-Security-Policy")
	assert.Contains(t, policy, "script-src 'self'")
	assert.NotContains(t, policy, "unsafe-eval")
}

func TestTheLocalTokenIsForTheOwnerOnly(t *testing.T) {
	servicetest.Simulated(t, func(t *testing.T) {
		h := servicetest.Start(t, servicetest.Options{Empty: true})
		info, err := os.Stat(h.Data + "/" + service.LocalAccessFile)
		require.NoError(t, err)
		assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())
		h.Close()
		_, err = os.Stat(h.Data + "/" + service.LocalAccessFile)
		assert.ErrorIs(t, err, os.ErrNotExist, "it is gone with the service")
	})
}

func TestAddressesThatOthersReachNeedTLS(t *testing.T) {
	_, err := service.Start(service.Config{Data: t.TempDir(), Listen: "0.0.0.0:0"}, nil)
	assert.ErrorContains(t, err, "--tls-cert")
	_, err = service.Start(service.Config{Data: t.TempDir(), Listen: "nonsense"}, nil)
	assert.ErrorContains(t, err, "write it like")
}

func TestASecondServiceIsKeptFromTheSameRecords(t *testing.T) {
	servicetest.Simulated(t, func(t *testing.T) {
		h := servicetest.Start(t, servicetest.Options{Empty: true})
		_, err := service.Start(service.Config{Data: h.Data, Listen: "127.0.0.1:0"}, nil)
		assert.ErrorContains(t, err, "another service uses the data folder")
	})
}

func TestAnUnreachableServiceIsNamed(t *testing.T) {
	_, err := (&client.Client{Server: "http://127.0.0.1:1"}).Bays(t.Context())
	assert.ErrorIs(t, err, client.ErrUnreachable)
	assert.ErrorContains(t, err, "usher serve")
}
