package service

import (
	"errors"
	"fmt"
	"net/http"
	"strings"

	"github.com/labstack/echo/v5"

	"usherbench/api"
	"usherbench/store"
)

// Access can be withdrawn: by a new password, another role, disabling the account, or token by token. From then on the
// tokens that are meant open nothing, in memory first and then on record.

// idLength is how much of a token's hash names it.
const idLength = 12

func (s *Service) changeAccount(c *echo.Context) error {
	body, err := bind[api.AccountChange](c)
	if err != nil {
		return err
	}
	account, err := s.store.Account(c.Param("account"))
	if err != nil {
		return err
	}
	columns, words, err := s.accountColumns(account, body)
	if err != nil {
		return err
	}
	if account.Role == string(api.Admin) && account.Hash != "" {
		if err := s.lastAdmin(account, body); err != nil {
			return err
		}
	}
	if err := s.store.UpdateAccount(account.ID, columns); err != nil {
		return err
	}
	if err := s.withdraw(func(t store.Token) bool { return t.AccountID == account.ID }); err != nil {
		return err
	}
	s.note(who(c), "account changed", account.Name+": "+strings.Join(words, ", "))
	changed, err := s.store.Account(account.Name)
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, api.Account{Name: changed.Name, Role: api.Role(changed.Role), Disabled: changed.Disabled})
}

// accountColumns are what a change writes, with words for the journal.
func (s *Service) accountColumns(account store.Account, body api.AccountChange) (columns map[string]any, words []string,
	err error) {
	columns = map[string]any{}
	if account.Name == localAccount {
		return nil, nil, badRequest("the account of this machine belongs to whoever may read the data folder",
			"change who may read it")
	}
	if body.Role != "" {
		if rank[body.Role] == 0 {
			return nil, nil, badRequest(fmt.Sprintf("%q is not a role", body.Role), "choose viewer, operator, engineer or admin")
		}
		columns["role"] = string(body.Role)
		words = append(words, "role "+string(body.Role))
	}
	if body.Disabled != nil {
		columns["disabled"] = *body.Disabled
		words = append(words, map[bool]string{true: "disabled", false: "enabled"}[*body.Disabled])
	}
	if body.Password != "" {
		if err := checkCredentials(account.Name, body.Password); err != nil {
			return nil, nil, err
		}
		columns["hash"] = s.accounts.hash(body.Password)
		words = append(words, "a new password")
	}
	if len(columns) == 0 {
		return nil, nil, badRequest("nothing is to be changed", "give password, role or disabled")
	}
	return columns, words, nil
}

// lastAdmin refuses to leave the service without anybody who may change accounts.
func (s *Service) lastAdmin(account store.Account, body api.AccountChange) error {
	stays := (body.Role == "" || body.Role == api.Admin) && (body.Disabled == nil || !*body.Disabled)
	if stays {
		return nil
	}
	all, err := s.store.Accounts()
	if err != nil {
		return err
	}
	for _, a := range all {
		if a.ID != account.ID && a.Role == string(api.Admin) && a.Hash != "" && !a.Disabled {
			return nil
		}
	}
	return &api.Problem{Title: "Refused", Status: http.StatusConflict, Detail: account.Name + " is the last admin",
		Remedy: "make another account an admin first"}
}

func (s *Service) changePassword(c *echo.Context) error {
	body, err := bind[api.PasswordChange](c)
	if err != nil {
		return err
	}
	account, err := s.store.Account(who(c))
	if err != nil {
		return err
	}
	if account.Hash == "" || len(body.Old) > 1000 || !s.accounts.matches(body.Old, account.Hash) {
		s.note(account.Name, "change of password refused", "from "+from(c))
		return badRequest("that is not the present password", "ask an admin for a new one if it is forgotten")
	}
	if err := checkCredentials(account.Name, body.New); err != nil {
		return err
	}
	if err := s.store.UpdateAccount(account.ID, map[string]any{"hash": s.accounts.hash(body.New)}); err != nil {
		return err
	}
	own := digest(secretOf(c.Request()))
	if err := s.withdraw(func(t store.Token) bool { return t.AccountID == account.ID && t.Hash != own }); err != nil {
		return err
	}
	s.note(account.Name, "password changed", "from "+from(c))
	return c.NoContent(http.StatusNoContent)
}

// withdraw forgets tokens.
func (s *Service) withdraw(which func(store.Token) bool) error {
	var hashes []string
	for _, t := range s.accounts.all() {
		if which(t) {
			hashes = append(hashes, t.Hash)
		}
	}
	return s.accounts.forget(which, func() error {
		var errs []error
		for _, hash := range hashes {
			errs = append(errs, s.store.DropToken(hash))
		}
		return errors.Join(errs...)
	})
}

// mine tells whether somebody may see and withdraw a token.
func mine(c *echo.Context, t store.Token) bool {
	account, _ := c.Get("account").(store.Account)
	return t.AccountID == account.ID || account.Role == string(api.Admin)
}

func (s *Service) listTokens(c *echo.Context) error {
	own := digest(secretOf(c.Request()))
	list := []api.Token{}
	for _, t := range s.accounts.all() {
		if mine(c, t) {
			list = append(list, api.Token{ID: t.Hash[:idLength], Account: t.Account.Name, Kind: t.Kind, Label: t.Label,
				IssuedAt: t.IssuedAt, ExpiresAt: t.ExpiresAt, Own: t.Hash == own})
		}
	}
	return c.JSON(http.StatusOK, list)
}

func (s *Service) revokeToken(c *echo.Context) error {
	id := c.Param("token")
	for _, t := range s.accounts.all() {
		if len(id) < idLength || !strings.HasPrefix(t.Hash, id) || !mine(c, t) {
			continue
		}
		if err := s.withdraw(func(other store.Token) bool { return other.Hash == t.Hash }); err != nil {
			return err
		}
		s.note(who(c), "token withdrawn", fmt.Sprintf("%s of %s, %s", t.Kind, t.Account.Name, t.Label))
		return c.NoContent(http.StatusNoContent)
	}
	return fmt.Errorf("token %q: %w", id, store.ErrNotFound)
}

func (s *Service) verifyJournal(c *echo.Context) error {
	v, err := s.journalCheck()
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, v)
}

func (s *Service) journalCheck() (api.JournalCheck, error) {
	v, err := s.store.VerifyJournal()
	return api.JournalCheck{Entries: v.Entries, Unsealed: v.Unsealed, Last: v.Last, Broken: v.Broken, Why: v.Why}, err
}

func (s *Service) checkRecords(c *echo.Context) (err error) {
	var found api.RecordsCheck
	switch err := s.store.Check(c.Request().Context()); {
	case errors.Is(err, store.ErrNotWhole):
		found.Why = err.Error()
	case err != nil:
		return err
	default:
		found.Whole = true
	}
	if found.Journal, err = s.journalCheck(); err != nil && found.Whole {
		return err
	}
	return c.JSON(http.StatusOK, found)
}
