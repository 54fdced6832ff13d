package service_test

import (
	"bytes"
	"io"
	"net/http"
	"net/url"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"usherbench/api"
	"usherbench/client"
	"usherbench/service/servicetest"
	"usherbench/simbench"
)

// A parameter that is documented does something: with a value that fits nothing the answer is another one, or says
// what is wrong with the value.
func TestEveryDocumentedParameterIsHeard(t *testing.T) {
	servicetest.Simulated(t, func(t *testing.T) {
		h := servicetest.Start(t, servicetest.Options{TimeFactor: 20, Layouts: []simbench.Layout{simbench.Scoped}})
		for _, volts := range []string{"40 V", "44 V", "48 V"} { // three revisions
			h.Push("procedure: short\nfor: tern\nneeds: {source: {}, load: {}, scope: {}}\nstages:\n  - name: on\n" +
				"    set: {source: {volts: " + volts + ", amps: 5 A, output: on}}\n" +
				"  - capture: {channels: [output], span: 10 s}\n  - hold: {for: 10 s}\n")
		}
		h.Ended(h.Start("bay1", "short", "TN-1"))
		second, err := h.Local.StartRun(t.Context(), api.StartRun{Bay: "bay1", Procedure: "short", Serial: "TN-2",
			Lot: "L-1"})
		require.NoError(t, err)
		h.Ended(second)
		_, err = h.Local.Attach(t.Context(), second.ID, client.Attaching{Name: "x.png"},
			bytes.NewReader(pictureOf(t, 400, 300)))
		require.NoError(t, err)
		require.NoError(t, h.Running.Store.Address([]string{"folder:reports"}, time.Time{}))
		later := time.Now().Add(time.Hour)
		waiting, err := h.Local.Enqueue(t.Context(), api.Enqueue{Bays: []string{"bay1"}, Serials: []string{"TN-3"},
			Procedures: []string{"short"}, NotBefore: &later})
		require.NoError(t, err)
		require.Len(t, waiting, 1)
		ask := func(path string, query url.Values) (status int, body string) {
			r, err := http.NewRequestWithContext(t.Context(), http.MethodGet, h.Running.URL+path+"?"+query.Encode(), nil)
			require.NoError(t, err)
			r.Header.Set("Authorization", "Bearer "+h.Local.Token)
			answer, err := h.HTTP().Do(r)
			require.NoError(t, err)
			defer answer.Body.Close()
			text, err := io.ReadAll(answer.Body)
			require.NoError(t, err)
			return answer.StatusCode, string(text)
		}
		// Values that are of the right form and still choose little, where a word would be.
		little := map[string]string{"limit": "1", "revision": "1", "from": "1", "to": "1", "buckets": "2", "points": "2",
			"before": "0", "since": "2100-01-01T00:00:00Z"}
		heard := 0
		for operation, o := range operations(t) {
			path, reads := strings.CutPrefix(operation, "GET ")
			if !reads || strings.HasSuffix(path, "/live") {
				continue // a stream has no end; its parameters have tests of their own
			}
			path = strings.NewReplacer("{run}", "last", "{bay}", "bay1", "{instrument}", "supply1", "{name}",
				"short", "{capture}", "0", "{lot}", "L-1", "{serial}", "TN-1",
				"{attachment}", "1").Replace(path)
			for _, p := range o.Parameters {
				if strings.HasSuffix(path, "/wiring") {
					continue // the run has no scan; which of several is drawn has a test of its own
				}
				if p.In != "query" {
					continue
				}
				needed := url.Values{}
				if strings.HasSuffix(path, "/difference") {
					needed.Set("with", "L-1")
				}
				with := func(name, value string) url.Values {
					all := url.Values{name: {value}}
					for other := range needed {
						if other != name {
							all.Set(other, needed.Get(other))
						}
					}
					return all
				}
				status, plain := ask(path, needed)
				require.Equal(t, http.StatusOK, status, "%s: %s", path, plain)
				refused, _ := ask(path, with(p.Name, "no such thing"))
				_, other := ask(path, with(p.Name, little[p.Name]))
				if little[p.Name] == "" {
					_, other = ask(path, with(p.Name, "no such thing"))
				} else if p.Name != "before" {
					assert.Equal(t, http.StatusBadRequest, refused, "%s: %s takes any word", path, p.Name)
				}
				if strings.HasSuffix(path, "/excursions") {
					continue // the run has none; what they choose has a test of its own
				}
				assert.NotEqual(t, plain, other, "%s: %s is documented and not heard", path, p.Name)
				heard++
			}
		}
		assert.Greater(t, heard, 15)
		for _, chosen := range new(api.RunFilter).Texts() {
			assert.Contains(t, names(operations(t)["GET /api/v1/runs"].Parameters), chosen.Name, "it is documented")
		}
	})
}

func names(parameters []parameter) (all []string) {
	for _, p := range parameters {
		all = append(all, p.Name)
	}
	return all
}
