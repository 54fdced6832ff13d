package service

import (
	"cmp"
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"regexp"
	"slices"
	"strings"
	"sync"
	"time"
	"unicode/utf8"

	"github.com/labstack/echo/v5"
	"golang.org/x/crypto/argon2"

	"usherbench/api"
	"usherbench/store"
)

const (
	cookieName     = "usher_session"
	sessionLasts   = 30 * 24 * time.Hour
	clientLasts    = 90 * 24 * time.Hour
	localLasts     = 10 * 365 * 24 * time.Hour
	shortestSecret = 10
	localAccount   = "this machine"
	localKind      = "local"
)

// accounts knows who may do what.
type accounts struct {
	store  *store.Store
	secure bool

	mu   sync.Mutex // guards code
	code string     // one-time code for the first account; empty: none

	// tokens are kept in memory too, by their digests: nobody who wants to stop something waits for the database.
	tokensMu sync.RWMutex
	tokens   map[string]store.Token

	// hashing bounds how many passwords are hashed at once, each of which takes memory, KiB.
	hashing chan struct{}
	memory  uint32
}

func newAccounts(s *store.Store, o Options) *accounts {
	return &accounts{store: s, secure: o.Secure, hashing: make(chan struct{}, 2),
		memory: cmp.Or(o.HashMemory, argonMemory), tokens: map[string]store.Token{}}
}

// load takes the tokens from the database.
func (a *accounts) load() error {
	all, err := a.store.Tokens()
	if err != nil {
		return err
	}
	a.tokensMu.Lock()
	defer a.tokensMu.Unlock()
	for _, t := range all {
		a.tokens[t.Hash] = t
	}
	return nil
}

// all lists the tokens that are good, those of disabled accounts left out, by account and time.
func (a *accounts) all() []store.Token {
	a.tokensMu.RLock()
	defer a.tokensMu.RUnlock()
	var list []store.Token
	for _, t := range a.tokens {
		if a.store.Now().Before(t.ExpiresAt) && !t.Account.Disabled {
			list = append(list, t)
		}
	}
	slices.SortFunc(list, func(x, y store.Token) int {
		return cmp.Or(cmp.Compare(x.Account.Name, y.Account.Name), x.IssuedAt.Compare(y.IssuedAt),
			cmp.Compare(x.Hash, y.Hash))
	})
	return list
}

// forget drops the tokens that are meant, in the database and in memory.
func (a *accounts) forget(which func(store.Token) bool, drop func() error) error {
	a.tokensMu.Lock()
	for hash, t := range a.tokens {
		if which(t) {
			delete(a.tokens, hash)
		}
	}
	a.tokensMu.Unlock()
	return drop()
}

// The parameters of argon2id, as RFC 9106 recommends for machines that do other work too.
const (
	argonTime, argonMemory, argonThreads = 3, 64 * 1024, 4
	saltLength, keyLength                = 16, 32
)

func (a *accounts) hash(password string) string {
	salt := make([]byte, saltLength)
	rand.Read(salt) // never fails
	return fmt.Sprintf("argon2id$%s$%s", base64.RawStdEncoding.EncodeToString(salt),
		base64.RawStdEncoding.EncodeToString(a.key(password, salt)))
}

func (a *accounts) key(password string, salt []byte) []byte {
	a.hashing <- struct{}{}
	defer func() { <-a.hashing }()
	return argon2.IDKey([]byte(password), salt, argonTime, a.memory, argonThreads, keyLength)
}

// matches compares a password with a hash. An account that does not exist takes as long as one that does.
func (a *accounts) matches(password, hash string) bool {
	parts := strings.Split(hash, "$")
	if len(parts) != 3 {
		a.key(password, make([]byte, saltLength))
		return false
	}
	salt, saltErr := base64.RawStdEncoding.DecodeString(parts[1])
	want, keyErr := base64.RawStdEncoding.DecodeString(parts[2])
	if saltErr != nil || keyErr != nil {
		return false
	}
	return subtle.ConstantTimeCompare(a.key(password, salt), want) == 1
}

// exist tells whether a person has an account.
func (a *accounts) exist() (bool, error) {
	all, err := a.store.Accounts()
	return slices.ContainsFunc(all, func(x store.Account) bool { return x.Hash != "" }), err
}

func (a *accounts) setupCode() (string, error) {
	exist, err := a.exist()
	if err != nil || exist {
		return "", err
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	a.code = rand.Text()
	return a.code, nil
}

// localToken makes an admin's token for the client on this machine; the token before it is forgotten.
func (a *accounts) localToken() (string, error) {
	account, err := a.store.Account(localAccount)
	if errors.Is(err, store.ErrNotFound) {
		account, err = a.store.CreateAccount(store.Account{Name: localAccount, Role: string(api.Admin)})
	}
	if err != nil {
		return "", err
	}
	err = a.forget(func(t store.Token) bool { return t.AccountID == account.ID && t.Kind == localKind },
		func() error { return a.store.DropTokens(account.ID, localKind) })
	if err != nil {
		return "", err
	}
	return a.issue(account, localKind, "", localLasts)
}

func (a *accounts) issue(account store.Account, kind, label string, lasts time.Duration) (string, error) {
	secret := rand.Text() + rand.Text()
	t := store.Token{Hash: digest(secret), AccountID: account.ID, Kind: kind, Label: label, IssuedAt: a.store.Now(),
		ExpiresAt: a.store.Now().Add(lasts)}
	if err := a.store.PutToken(t); err != nil {
		return "", err
	}
	t.Account = account
	a.tokensMu.Lock()
	defer a.tokensMu.Unlock()
	a.tokens[t.Hash] = t
	return secret, nil
}

func digest(secret string) string {
	sum := sha256.Sum256([]byte(secret))
	return hex.EncodeToString(sum[:])
}

func secretOf(r *http.Request) string {
	if bearer, ok := strings.CutPrefix(r.Header.Get("Authorization"), "Bearer "); ok {
		return bearer
	}
	if cookie, err := r.Cookie(cookieName); err == nil {
		return cookie.Value
	}
	return ""
}

// of finds who sends a request.
func (a *accounts) of(r *http.Request) (store.Account, error) {
	secret := secretOf(r)
	if secret == "" {
		return store.Account{}, errSignIn
	}
	a.tokensMu.RLock()
	defer a.tokensMu.RUnlock()
	token, ok := a.tokens[digest(secret)]
	if !ok || token.Account.Disabled || !a.store.Now().Before(token.ExpiresAt) {
		return store.Account{}, errSignIn
	}
	return token.Account, nil
}

var rank = map[api.Role]int{api.Viewer: 1, api.Operator: 2, api.Engineer: 3, api.Admin: 4}

// fromElsewhere tells whether a browser sends a request for another site. Other sites must not act with a browser's
// session, whatever the browser thinks of cookies; one that says nothing of sites says the origin of what changes
// something. Programs say neither.
func fromElsewhere(r *http.Request) bool {
	if r.Method == http.MethodGet {
		return false
	}
	if site := r.Header.Get("Sec-Fetch-Site"); site != "" {
		return site != "same-origin" && site != "none"
	}
	origin, err := url.Parse(r.Header.Get("Origin"))
	return err != nil || origin.Host != r.Host && r.Header.Get("Origin") != ""
}

// allow lets only accounts of at least the role pass.
func (s *Service) allow(role api.Role) echo.MiddlewareFunc {
	return func(next echo.HandlerFunc) echo.HandlerFunc {
		return func(c *echo.Context) error {
			account, err := s.accounts.of(c.Request())
			if err != nil {
				return err
			}
			if fromElsewhere(c.Request()) {
				return &api.Problem{Title: "Refused", Status: http.StatusForbidden, Detail: "the request comes from another site"}
			}
			if rank[api.Role(account.Role)] < rank[role] {
				return &api.Problem{Title: "Not allowed", Status: http.StatusForbidden,
					Detail: fmt.Sprintf("this needs the role %s; %s is %s", role, account.Name, account.Role),
					Remedy: "ask an admin for the role"}
			}
			c.Set("account", account)
			return next(c)
		}
	}
}

// who is the name of the account that sent the request.
func who(c *echo.Context) string {
	account, _ := c.Get("account").(store.Account)
	return account.Name
}

var accountName = regexp.MustCompile(`^[\p{L}\p{N}][\p{L}\p{N} ._@-]*$`)

const longestAccountName = 64 // characters

func checkCredentials(name, password string) error {
	if !accountName.MatchString(name) || utf8.RuneCountInString(name) > longestAccountName ||
		strings.EqualFold(name, localAccount) {
		return badRequest(fmt.Sprintf("%q is not a name of an account", name),
			"use up to 64 letters, digits, spaces and . _ @ -")
	}
	if len(password) < shortestSecret || len(password) > 1000 {
		return badRequest("the password is too short or too long",
			fmt.Sprintf("use at least %d characters; a few words are easy to remember", shortestSecret))
	}
	return nil
}

func (s *Service) setUp(c *echo.Context) error {
	body, err := bind[api.Setup](c)
	if err != nil {
		return err
	}
	if err := checkCredentials(body.Name, body.Password); err != nil {
		return err
	}
	a := s.accounts
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.code == "" || subtle.ConstantTimeCompare([]byte(a.code), []byte(body.Code)) != 1 {
		return &api.Problem{Title: "The set-up link is not valid", Status: http.StatusForbidden,
			Detail: "it was used already, or the service was started again since",
			Remedy: "take the link from the service's newest output"}
	}
	account, err := a.store.CreateAccount(store.Account{Name: body.Name, Role: string(api.Admin),
		Hash: a.hash(body.Password)})
	if err != nil {
		return err
	}
	a.code = ""
	s.note(account.Name, "first account made", "role admin")
	return s.openSession(c, account, false)
}

func (s *Service) signIn(c *echo.Context) error {
	body, err := bind[api.SignIn](c)
	if err != nil {
		return err
	}
	account, err := s.accounts.store.Account(body.Name)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return err
	}
	if len(body.Password) > 1000 || !s.accounts.matches(body.Password, account.Hash) || account.Disabled {
		s.note(known(body.Name), "sign-in refused", "from "+c.RealIP())
		return &api.Problem{Title: "Sign-in refused", Status: http.StatusUnauthorized,
			Detail: "name and password do not belong together", Remedy: "check both, or ask an admin for a new password"}
	}
	return s.openSession(c, account, body.Client)
}

func (s *Service) openSession(c *echo.Context, account store.Account, client bool) error {
	answer := api.Account{Name: account.Name, Role: api.Role(account.Role)}
	kind, lasts := "session", sessionLasts
	if client {
		kind, lasts = "client", clientLasts
	}
	secret, err := s.accounts.issue(account, kind, from(c), lasts)
	if err != nil {
		return err
	}
	s.note(account.Name, "signed in", kind+" from "+from(c))
	if client {
		answer.Token = secret
	} else {
		c.SetCookie(&http.Cookie{Name: cookieName, Value: secret, Path: "/", HttpOnly: true, Secure: s.accounts.secure,
			SameSite: http.SameSiteStrictMode, MaxAge: int(lasts.Seconds())})
	}
	return c.JSON(http.StatusOK, answer)
}

func (s *Service) signOut(c *echo.Context) error {
	hash := digest(secretOf(c.Request()))
	if err := s.accounts.forget(func(t store.Token) bool { return t.Hash == hash },
		func() error { return s.store.DropToken(hash) }); err != nil {
		return err
	}
	c.SetCookie(&http.Cookie{Name: cookieName, Path: "/", HttpOnly: true, Secure: s.accounts.secure,
		SameSite: http.SameSiteStrictMode, MaxAge: -1})
	return c.NoContent(http.StatusNoContent)
}

func (s *Service) me(c *echo.Context) error {
	account, _ := c.Get("account").(store.Account)
	return c.JSON(http.StatusOK, api.Account{Name: account.Name, Role: api.Role(account.Role)})
}

func (s *Service) listAccounts(c *echo.Context) error {
	all, err := s.store.Accounts()
	if err != nil {
		return err
	}
	list := []api.Account{}
	for _, a := range all {
		list = append(list, api.Account{Name: a.Name, Role: api.Role(a.Role), Disabled: a.Disabled})
	}
	return c.JSON(http.StatusOK, list)
}

func (s *Service) addAccount(c *echo.Context) error {
	body, err := bind[api.NewAccount](c)
	if err != nil {
		return err
	}
	if err := checkCredentials(body.Name, body.Password); err != nil {
		return err
	}
	if rank[body.Role] == 0 {
		return badRequest(fmt.Sprintf("%q is not a role", body.Role), "choose viewer, operator, engineer or admin")
	}
	account, err := s.store.CreateAccount(store.Account{Name: body.Name, Role: string(body.Role),
		Hash: s.accounts.hash(body.Password)})
	if err != nil {
		return err
	}
	s.note(who(c), "account added", fmt.Sprintf("%s, role %s", account.Name, account.Role))
	return c.JSON(http.StatusCreated, api.Account{Name: account.Name, Role: body.Role})
}

// known is a name as somebody gave it, bounded for the journal.
func known(name string) string {
	if runes := []rune(name); len(runes) > 64 {
		return string(runes[:64]) + "…"
	}
	return name
}

// from is where a request comes from, as far as it says.
func from(c *echo.Context) string {
	agent, _, _ := strings.Cut(c.Request().UserAgent(), " ")
	return strings.TrimSuffix(c.RealIP()+" "+known(agent), " ")
}

// note adds to the journal what was done to the service itself.
func (s *Service) note(by, what, detail string) {
	s.engine.Journal(store.JournalEntry{By: by, What: what, Detail: detail})
}
