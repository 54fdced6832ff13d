package service_test

import (
	"net/http"
	"net/http/httptest"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"gorm.io/driver/sqlite"
	"gorm.io/gorm"

	"usherbench/api"
	"usherbench/bench"
	"usherbench/client"
	"usherbench/service/servicetest"
)

const firstPassword, secondPassword = "a lantern in the fog", "two lanterns in the fog"

// signedIn makes an account and gives its client.
func signedIn(t *testing.T, h *servicetest.House, name string, role api.Role) *client.Client {
	t.Helper()
	_, err := h.Local.AddAccount(t.Context(), api.NewAccount{Name: name, Role: role, Password: firstPassword})
	require.NoError(t, err)
	return again(t, h, name, firstPassword)
}

func again(t *testing.T, h *servicetest.House, name, password string) *client.Client {
	t.Helper()
	account, err := h.Client("").SignIn(t.Context(), name, password)
	require.NoError(t, err)
	return h.Client(account.Token)
}

func statusOf(t *testing.T, err error) int {
	t.Helper()
	return problemOf(t, err).Status
}

func TestAccessIsWithdrawn(t *testing.T) {
	h := servicetest.Start(t, servicetest.Options{Sockets: true, Empty: true})
	ctx := t.Context()
	grace := signedIn(t, h, "grace", api.Operator)

	_, err := h.Local.ChangeAccount(ctx, "grace", api.AccountChange{Role: api.Viewer})
	require.NoError(t, err)
	_, err = grace.Me(ctx)
	assert.Equal(t, http.StatusUnauthorized, statusOf(t, err), "a new role is taken up by signing in anew")
	grace, other := again(t, h, "grace", firstPassword), again(t, h, "grace", firstPassword)
	me, err := grace.Me(ctx)
	require.NoError(t, err)
	assert.Equal(t, api.Viewer, me.Role)

	assert.Equal(t, http.StatusBadRequest,
		statusOf(t, grace.ChangePassword(ctx, api.PasswordChange{Old: "wrong", New: secondPassword})))
	assert.Equal(t, http.StatusBadRequest,
		statusOf(t, grace.ChangePassword(ctx, api.PasswordChange{Old: firstPassword, New: "short"})))
	require.NoError(t, grace.ChangePassword(ctx, api.PasswordChange{Old: firstPassword, New: secondPassword}))
	_, err = grace.Me(ctx)
	require.NoError(t, err, "who changed it stays signed in")
	_, err = other.Me(ctx)
	assert.Equal(t, http.StatusUnauthorized, statusOf(t, err), "everybody else is not")
	_, err = h.Client("").SignIn(ctx, "grace", firstPassword)
	assert.Equal(t, http.StatusUnauthorized, statusOf(t, err))

	yes, no := true, false
	_, err = h.Local.ChangeAccount(ctx, "grace", api.AccountChange{Disabled: &yes})
	require.NoError(t, err)
	_, err = grace.Me(ctx)
	assert.Equal(t, http.StatusUnauthorized, statusOf(t, err))
	_, err = h.Client("").SignIn(ctx, "grace", secondPassword)
	assert.Equal(t, http.StatusUnauthorized, statusOf(t, err))
	accounts, err := h.Local.Accounts(ctx)
	require.NoError(t, err)
	assert.Contains(t, accounts, api.Account{Name: "grace", Role: api.Viewer, Disabled: true})
	_, err = h.Local.ChangeAccount(ctx, "grace", api.AccountChange{Disabled: &no, Password: firstPassword})
	require.NoError(t, err)
	again(t, h, "grace", firstPassword)

	h.Close() // and so after a restart
	h.Open()
	_, err = h.Client(other.Token).Me(ctx)
	assert.Equal(t, http.StatusUnauthorized, statusOf(t, err))
	journal := journalOfBay(t, h, "")
	for _, words := range []string{"signed in: client from 127.0.0.1", "sign-in refused: from 127.0.0.1",
		"account changed: grace: disabled", "password changed", "change of password refused"} {
		assert.Contains(t, journal, words)
	}
	assert.NotContains(t, journal, firstPassword)
}

func TestNobodyShutsEverybodyOut(t *testing.T) {
	servicetest.Simulated(t, func(t *testing.T) {
		h := servicetest.Start(t, servicetest.Options{Empty: true})
		ctx, yes := t.Context(), true
		signedIn(t, h, "ada", api.Admin)
		for _, change := range []api.AccountChange{{Role: api.Viewer}, {Disabled: &yes}} {
			_, err := h.Local.ChangeAccount(ctx, "ada", change)
			assert.Equal(t, http.StatusConflict, statusOf(t, err))
			assert.ErrorContains(t, err, "the last admin")
		}
		signedIn(t, h, "grace", api.Admin)
		_, err := h.Local.ChangeAccount(ctx, "ada", api.AccountChange{Disabled: &yes})
		require.NoError(t, err)
		for name, change := range map[string]api.AccountChange{"grace": {}, "this machine": {Role: api.Viewer},
			"Grace": {Role: "queen"}} {
			_, err := h.Local.ChangeAccount(ctx, name, change)
			assert.Equal(t, http.StatusBadRequest, statusOf(t, err), name)
		}
		_, err = h.Local.ChangeAccount(ctx, "nobody", api.AccountChange{Role: api.Viewer})
		assert.Equal(t, http.StatusNotFound, statusOf(t, err))
	})
}

func TestTokensAreListedAndWithdrawn(t *testing.T) {
	servicetest.Simulated(t, func(t *testing.T) {
		h := servicetest.Start(t, servicetest.Options{Empty: true})
		ctx := t.Context()
		grace, linus := signedIn(t, h, "grace", api.Operator), signedIn(t, h, "linus", api.Viewer)
		list, err := grace.Tokens(ctx)
		require.NoError(t, err)
		require.Len(t, list, 1, "one's own only")
		assert.True(t, list[0].Own)
		assert.Equal(t, "client", list[0].Kind)
		assert.InDelta(t, 90*24, time.Until(list[0].ExpiresAt).Hours(), 1, "a client's token expires in 90 days")
		assert.Equal(t, http.StatusNotFound, statusOf(t, linus.RevokeToken(ctx, list[0].ID)), "others' are not there")
		all, err := h.Local.Tokens(ctx)
		require.NoError(t, err)
		assert.Len(t, all, 3, "an admin sees those of everybody, with this machine's")
		for _, token := range all {
			assert.NotContains(t, grace.Token, token.ID, "a list opens nothing")
		}
		listening := make(chan error, 1)
		heard := make(chan struct{}, 1000)
		go func() {
			listening <- grace.Live(ctx, "", 0, func(client.Event) error { heard <- struct{}{}; return nil }, nil)
		}()
		<-heard
		require.NoError(t, h.Local.RevokeToken(ctx, list[0].ID))
		select {
		case <-listening:
		case <-time.After(20 * time.Second):
			t.Error("a stream goes on though its access was withdrawn")
		}
		_, err = grace.Me(ctx)
		assert.Equal(t, http.StatusUnauthorized, statusOf(t, err))
		assert.Equal(t, http.StatusNotFound, statusOf(t, h.Local.RevokeToken(ctx, list[0].ID)))
		assert.Equal(t, http.StatusNotFound, statusOf(t, h.Local.RevokeToken(ctx, "3f")), "a few digits are no token")
	})
}

func TestAJournalThatWasChangedIsFound(t *testing.T) {
	servicetest.Simulated(t, func(t *testing.T) {
		h := servicetest.Start(t, servicetest.Options{})
		ctx := t.Context()
		sound, err := h.Local.VerifyJournal(ctx)
		require.NoError(t, err)
		assert.Zero(t, sound.Broken)
		for range 4 {
			_, err = h.Local.MakeSafe(ctx, "bay1", "")
			require.NoError(t, err)
		}
		later, err := h.Local.VerifyJournal(ctx)
		require.NoError(t, err)
		require.Greater(t, later.Entries, sound.Entries)
		assert.NotEqual(t, sound.Last, later.Last)
		db, err := gorm.Open(sqlite.Open("file:" + filepath.Join(h.Data, "usher.db") + "?_busy_timeout=10000"))
		require.NoError(t, err)
		for _, change := range []string{
			"UPDATE journal_entries SET detail = detail || '!' WHERE id = (SELECT max(id) FROM journal_entries)",
			"DELETE FROM journal_entries WHERE id = (SELECT max(id) - 1 FROM journal_entries)",
			"UPDATE journal_entries SET \"by\" = 'nobody' WHERE id = (SELECT min(id) FROM journal_entries)",
		} { // each breaks it before the one before did
			require.NoError(t, db.Exec(change).Error)
			v, err := h.Local.VerifyJournal(ctx)
			require.NoError(t, err)
			assert.NotZero(t, v.Broken, change)
			assert.Contains(t, v.Why, "is not as it was written", change)
			require.Less(t, v.Entries, later.Entries, change)
			later = v
		}
		plain, err := db.DB()
		require.NoError(t, err)
		require.NoError(t, plain.Close())
	})
}

// The client of a unit handler goes nowhere but where it is configured to.
func TestAUnitHandlerSendsTheServiceNowhere(t *testing.T) {
	elsewhere := 0
	target := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) { elsewhere++ }))
	defer target.Close()
	handler := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		http.Redirect(w, r, target.URL, http.StatusTemporaryRedirect)
	}))
	defer handler.Close()
	h := servicetest.Start(t, servicetest.Options{Sockets: true, Change: func(c *bench.Config) {
		b := c.Bays["bay1"]
		b.Handler = handler.URL
		c.Bays["bay1"] = b
	}})
	h.Push(long)
	_, err := h.Local.StartRun(t.Context(), api.StartRun{Bay: "bay1", Procedure: "long", Serial: "TN-1"})
	assert.Equal(t, http.StatusConflict, statusOf(t, err))
	assert.Contains(t, strings.ToLower(problemOf(t, err).Detail), "refused \"tn-1\" (307")
	assert.Zero(t, elsewhere)
}
