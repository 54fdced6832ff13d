package service_test

import (
	"context"
	"encoding/json"
	"io"
	"net/http"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"gorm.io/driver/sqlite"
	"gorm.io/gorm"

	"usherbench/api"
	"usherbench/client"
	"usherbench/service/servicetest"
)

// slowly gives a byte every two seconds.
type slowly struct{ left int }

func (s *slowly) Read(p []byte) (int, error) {
	if s.left == 0 {
		return 0, io.EOF
	}
	time.Sleep(2 * time.Second)
	s.left--
	p[0] = ' '
	return 1, nil
}

// A body that comes a byte at a time is not waited for; one that takes its time within bounds is.
func TestABodyHasADeadline(t *testing.T) {
	servicetest.Simulated(t, func(t *testing.T) {
		h := servicetest.Start(t, servicetest.Options{})
		for bytes, status := range map[int]int{5: http.StatusUnprocessableEntity, 60: http.StatusRequestTimeout} {
			request, err := http.NewRequestWithContext(t.Context(), http.MethodPost, h.Running.URL+"/api/v1/nameplates",
				io.MultiReader(&slowly{left: bytes}, strings.NewReader(`{"text": "nameplate: x"}`)))
			require.NoError(t, err)
			request.Header.Set("Content-Type", "application/json")
			request.Header.Set("Authorization", "Bearer "+h.Local.Token)
			began := time.Now()
			answer, err := h.HTTP().Do(request)
			require.NoError(t, err)
			assert.Equal(t, status, answer.StatusCode, bytes)
			assert.Less(t, time.Since(began), 25*time.Second)
			require.NoError(t, answer.Body.Close())
			time.Sleep(5 * time.Second) // until the sender has seen that nobody listens any more
		}
	})
}

// Who loses access is told of nothing more.
func TestAStreamEndsWithItsSession(t *testing.T) {
	servicetest.Simulated(t, func(t *testing.T) {
		h := servicetest.Start(t, servicetest.Options{})
		viewer := h.As(api.Viewer)
		ended := make(chan time.Time, 1)
		ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
		defer cancel()
		request, err := http.NewRequestWithContext(ctx, http.MethodGet, h.Running.URL+"/api/v1/live", http.NoBody)
		require.NoError(t, err)
		request.Header.Set("Authorization", "Bearer "+viewer.Token)
		answer, err := h.HTTP().Do(request)
		require.NoError(t, err)
		go func() {
			_, _ = io.Copy(io.Discard, answer.Body)
			ended <- time.Now()
		}()
		h.Start("bay1", "tern-load-steps", "TN-1") // there is much to be told
		time.Sleep(time.Second)
		disabled := true
		accounts, err := h.Local.Accounts(t.Context())
		require.NoError(t, err)
		for _, a := range accounts {
			if a.Name == "test viewer" {
				_, err = h.Local.ChangeAccount(t.Context(), a.Name, api.AccountChange{Disabled: &disabled})
				require.NoError(t, err)
			}
		}
		withdrawn := time.Now()
		assert.Less(t, (<-ended).Sub(withdrawn), time.Second)
		require.NoError(t, answer.Body.Close())
	})
}

// A database that another program holds is named as that.
func TestALockedDatabaseIsNamed(t *testing.T) {
	h := servicetest.Start(t, servicetest.Options{Sockets: true})
	other, err := gorm.Open(sqlite.Open("file:"+filepath.Join(h.Data, "usher.db")), &gorm.Config{})
	require.NoError(t, err)
	pool, err := other.DB()
	require.NoError(t, err)
	pool.SetMaxOpenConns(1)
	require.NoError(t, other.Exec("BEGIN IMMEDIATE").Error)
	_, err = h.Local.PushNameplate(t.Context(), "nameplate: held\nratings: {rated_volts: 15 V}\n")
	var problem *api.Problem
	require.ErrorAs(t, err, &problem)
	assert.Equal(t, "The records are locked", problem.Title)
	assert.Equal(t, http.StatusServiceUnavailable, problem.Status)
	require.NoError(t, other.Exec("ROLLBACK").Error)
	_, err = h.Local.PushNameplate(t.Context(), "nameplate: held\nratings: {rated_volts: 15 V}\n")
	require.NoError(t, err)
}

// What a spreadsheet would take for a formula goes out as the words that it is.
func TestCellsThatBeginLikeAFormula(t *testing.T) {
	servicetest.Simulated(t, func(t *testing.T) {
		h := servicetest.Start(t, servicetest.Options{})
		h.Push("procedure: formula\nfor: tern\nneeds: {source: {}}\nstages:\n  - name: \"=HYPERLINK(1)\"\n" +
			"    hold: {for: 1 s}\n")
		run := h.Ended(h.Start("bay1", "formula", "TN-1"))
		var out strings.Builder
		require.NoError(t, h.Local.Export(t.Context(), run.ID, "csv", client.Range{With: []string{"stage", "run"}}, &out))
		assert.Contains(t, out.String(), ",'=HYPERLINK(1),"+run.ID)
		text, err := json.Marshal(run.Marks)
		require.NoError(t, err)
		assert.Contains(t, string(text), `"=HYPERLINK(1)"`, "and as it is in JSON")
	})
}

// One account has so many heavy requests and streams at a time, and others are not kept waiting for more.
func TestAnAccountHasItsShare(t *testing.T) {
	servicetest.Simulated(t, func(t *testing.T) {
		h := servicetest.Start(t, servicetest.Options{})
		viewer := h.As(api.Viewer)
		ask := func(method, path, token string, body io.Reader) int {
			request, err := http.NewRequestWithContext(t.Context(), method, h.Running.URL+path, body)
			require.NoError(t, err)
			request.Header.Set("Content-Type", "application/json")
			request.Header.Set("Authorization", "Bearer "+token)
			answer, err := h.HTTP().Do(request)
			require.NoError(t, err)
			defer answer.Body.Close()
			_, _ = io.Copy(io.Discard, answer.Body)
			return answer.StatusCode
		}
		const sent = 7
		statuses := make(chan int, sent)
		for range sent {
			go func() {
				statuses <- ask(http.MethodPost, "/api/v1/rehearsals", viewer.Token,
					io.MultiReader(&slowly{left: 5}, strings.NewReader(`{"text": "x"}`)))
			}()
		}
		count := map[int]int{}
		for range sent {
			count[<-statuses]++
		}
		assert.Equal(t, map[int]int{http.StatusTooManyRequests: 3, http.StatusUnprocessableEntity: 4}, count)
		assert.Equal(t, http.StatusUnprocessableEntity, ask(http.MethodPost, "/api/v1/rehearsals", h.Local.Token,
			strings.NewReader(`{"text": "x"}`)))

		ctx, cancel := context.WithCancel(t.Context())
		open := 0
		for {
			request, err := http.NewRequestWithContext(ctx, http.MethodGet, h.Running.URL+"/api/v1/live", nil)
			require.NoError(t, err)
			request.Header.Set("Authorization", "Bearer "+viewer.Token)
			answer, err := h.HTTP().Do(request)
			require.NoError(t, err)
			defer answer.Body.Close()
			if answer.StatusCode != http.StatusOK {
				assert.Equal(t, http.StatusTooManyRequests, answer.StatusCode)
				break
			}
			open++
			require.LessOrEqual(t, open, 64)
		}
		assert.Equal(t, 64, open)
		cancel()
		time.Sleep(5 * time.Second) // until the service has seen that nobody listens any more
	})
}
