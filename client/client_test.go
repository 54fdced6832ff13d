package client_test

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/http/httptest"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"usherbench/api"
	"usherbench/client"
)

var errDone = errors.New("done")

func limited(t *testing.T) context.Context {
	ctx, cancel := context.WithTimeout(t.Context(), 30*time.Second)
	t.Cleanup(cancel)
	return ctx
}

func TestAStreamThatIsCutContinuesAfterTheLastEvent(t *testing.T) {
	var asked []string
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		asked = append(asked, r.Header.Get("Last-Event-ID"))
		switch len(asked) {
		case 1:
			// Cut in the middle
			fmt.Fprint(w,
				"id: 7\nevent: tick\ndata: {}\n\nid: 8\nevent: mark\ndata: {\"label\":\"a\"}\n\nid: 9\nevent: mark\nda")
		case 2:
			w.WriteHeader(http.StatusInternalServerError)
		default:
			fmt.Fprint(w, "id: 9\nevent: mark\ndata: {\"label\":\"b\"}\n\n")
		}
	}))
	defer server.Close()
	var labels []string
	var told []bool
	err := (&client.Client{Server: server.URL}).Live(limited(t), "", 0, func(e client.Event) error {
		var m api.MarkEvent
		require.NoError(t, e.Into(&m))
		if labels = append(labels, m.Label); len(labels) == 2 {
			return errDone
		}
		return nil
	}, func(err error) { told = append(told, err == nil) })
	assert.ErrorIs(t, err, errDone)
	assert.Equal(t, []string{"a", "b"}, labels, "nothing twice, nothing lost")
	assert.Equal(t, []string{"", "8", "8"}, asked)
	assert.Equal(t, []bool{false, true}, told, "told once of the loss and once of the return")
}

func TestAStreamThatIsNotAllowedEnds(t *testing.T) {
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		w.WriteHeader(http.StatusUnauthorized)
		fmt.Fprint(w, `{"title":"Not signed in","status":401}`)
	}))
	defer server.Close()
	err := (&client.Client{Server: server.URL}).Live(limited(t), "", 0, func(client.Event) error { return nil }, nil)
	var p *api.Problem
	require.ErrorAs(t, err, &p)
	assert.Equal(t, http.StatusUnauthorized, p.Status)
}

func TestAnswersThatAreNoProblemDocumentsAreErrorsToo(t *testing.T) {
	for body, want := range map[string]string{"<html>bad gateway</html>": "502 Bad Gateway", "": "502 Bad Gateway",
		`{"title":"Busy","detail":"bay1","remedy":"wait"}`: "Busy: bay1 (wait)"} {
		server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
			w.WriteHeader(http.StatusBadGateway)
			fmt.Fprint(w, body)
		}))
		_, err := (&client.Client{Server: server.URL}).Bays(limited(t))
		assert.EqualError(t, err, want)
		server.Close()
	}
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter,
		_ *http.Request) {
		fmt.Fprint(w, "not JSON")
	}))
	defer server.Close()
	_, err := (&client.Client{Server: server.URL}).Bays(limited(t))
	assert.ErrorContains(t, err, "the answer cannot be read")
}
