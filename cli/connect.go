package cli

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"usherbench/api"
	"usherbench/client"
	"usherbench/service"
)

const defaultData = "usher-data"

func (a *app) dataFolder() string {
	for _, folder := range []string{a.data, os.Getenv("USHER_DATA")} {
		if folder != "" {
			return folder
		}
	}
	return defaultData
}

// connect finds the service and a token: by flag and environment, else the service on this machine through its
// data folder, else the last sign-in.
func (a *app) connect() (*client.Client, error) {
	server := a.server
	if server == "" {
		server = os.Getenv("USHER_SERVER")
	}
	token := os.Getenv("USHER_TOKEN")
	if server == "" {
		access, err := readLocalAccess(a.dataFolder())
		switch {
		case err == nil:
			if token == "" {
				token = access.Token
			}
			return &client.Client{Server: access.Server, Token: token}, nil
		case !errors.Is(err, os.ErrNotExist):
			return nil,
				fmt.Errorf("the token of the service on this machine: %w; run the command as the user who runs the service, or "+
					"sign in with: usher sign-in", err)
		}
	}
	signIns, err := readSignIns()
	if err != nil {
		return nil, err
	}
	if server == "" {
		server = signIns.Last
	}
	if server == "" {
		return nil,
			fmt.Errorf("no service was found: none runs with the data folder %q; start one with: usher serve, name its "+
				"folder with --data, or its address with --server", a.dataFolder())
	}
	server = normalise(server)
	if token == "" {
		token = signIns.Tokens[server]
	}
	return &client.Client{Server: server, Token: token}, nil
}

func normalise(server string) string {
	if !strings.Contains(server, "://") {
		server = "http://" + server
	}
	return strings.TrimSuffix(server, "/")
}

func readLocalAccess(data string) (service.LocalAccess, error) {
	var access service.LocalAccess
	text, err := os.ReadFile(filepath.Join(data, service.LocalAccessFile))
	if err != nil {
		return access, err
	}
	return access, json.Unmarshal(text, &access)
}

// signIns are the tokens of services that were signed in to, in a file of mode 0600 in the user's configuration.
type signIns struct {
	Last   string            `json:"last"`
	Tokens map[string]string `json:"tokens"`
}

func signInsFile() (string, error) {
	folder, err := os.UserConfigDir()
	return filepath.Join(folder, "usher", "sign-ins.json"), err
}

func readSignIns() (signIns, error) {
	s := signIns{Tokens: map[string]string{}}
	path, err := signInsFile()
	if err != nil {
		return s, nil // no home, so nobody signed in
	}
	text, err := os.ReadFile(path)
	if errors.Is(err, os.ErrNotExist) {
		return s, nil
	}
	if err != nil {
		return s, err
	}
	if err := json.Unmarshal(text, &s); err != nil {
		return s, fmt.Errorf("%s: %w; remove it and sign in again", path, err)
	}
	return s, nil
}

func (s signIns) write() error {
	path, err := signInsFile()
	if err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return err
	}
	text, err := json.MarshalIndent(s, "", "  ")
	if err != nil {
		return err
	}
	return os.WriteFile(path, text, 0o600)
}

func (a *app) signIn() *cobra.Command {
	var name string
	c := &cobra.Command{
		Use: "sign-in SERVER", Short: "Sign in to a service on another machine", Args: cobra.ExactArgs(1),
		Long: `Sign in to a service on another machine. The token is kept in your configuration folder, readable only by you.
On the machine of the service itself no sign-in is needed: the command line reads the token in the data folder.
The password is asked for; without a terminal it is read from standard input.`,
		Example: "  usher sign-in https://bench.example:8750 --name ada\n  echo \"$PASSWORD\" | usher sign-in " +
			"127.0.0.1:8750 --name ada",
		RunE: func(c *cobra.Command, args []string) error {
			if name == "" {
				return usage("give your account with --name")
			}
			password, err := a.password(fmt.Sprintf("Password of %s: ", name))
			if err != nil {
				return err
			}
			server := normalise(args[0])
			cl := &client.Client{Server: server}
			account, err := cl.SignIn(c.Context(), name, password)
			if err != nil {
				return err
			}
			s, err := readSignIns()
			if err != nil {
				return err
			}
			s.Last, s.Tokens[server] = server, account.Token
			if err := s.write(); err != nil {
				return fmt.Errorf("keep the token: %w", err)
			}
			account.Token = ""
			if a.json {
				return a.printJSON(account)
			}
			fmt.Fprintf(a.out, "Signed in to %s as %s (%s).\n", server, account.Name, account.Role)
			return nil
		},
	}
	c.Flags().StringVar(&name, "name", "", "account")
	return c
}

func (a *app) password(prompt string) (string, error) {
	if f, ok := a.in.(*os.File); ok && term.IsTerminal(int(f.Fd())) {
		fmt.Fprint(a.err, prompt)
		text, err := term.ReadPassword(int(f.Fd()))
		fmt.Fprintln(a.err)
		return string(text), err
	}
	line, err := bufio.NewReader(a.in).ReadString('\n')
	if line == "" && err != nil {
		return "", errors.New("no password: type it, or pipe it to standard input")
	}
	return strings.TrimRight(line, "\r\n"), nil
}

func (a *app) signOut() *cobra.Command {
	return &cobra.Command{
		Use: "sign-out", Short: "Forget the token of the last sign-in", Args: cobra.NoArgs, Example: "  usher sign-out",
		RunE: func(c *cobra.Command, _ []string) error {
			s, err := readSignIns()
			if err != nil {
				return err
			}
			if s.Last == "" {
				return errors.New("nobody is signed in")
			}
			cl := &client.Client{Server: s.Last, Token: s.Tokens[s.Last]}
			// A service that cannot be reached keeps the token until it expires; here it is forgotten all the same.
			if err := cl.SignOut(c.Context()); err != nil {
				fmt.Fprintf(a.err, "usher: the service was not told: %s\n", err)
			}
			delete(s.Tokens, s.Last)
			s.Last = ""
			return s.write()
		},
	}
}

func (a *app) account() *cobra.Command {
	c := &cobra.Command{Use: "account", Short: "List, add and change accounts (admin)", Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error { return c.Help() }}
	var role string
	add := &cobra.Command{
		Use: "add NAME", Short: "Add an account; its password is asked for", Args: cobra.ExactArgs(1),
		Example: "  usher account add grace --role operator",
		RunE: a.withClient(func(ctx context.Context, cl *client.Client, args []string) error {
			password, err := a.password(fmt.Sprintf("Password for %s: ", args[0]))
			if err != nil {
				return err
			}
			account, err := cl.AddAccount(ctx, api.NewAccount{Name: args[0], Role: api.Role(role), Password: password})
			if err != nil {
				return err
			}
			if a.json {
				return a.printJSON(account)
			}
			fmt.Fprintf(a.out, "Added %s (%s).\n", account.Name, account.Role)
			return nil
		}),
	}
	add.Flags().StringVar(&role, "role", string(api.Operator), "viewer, operator, engineer or admin")
	list := &cobra.Command{
		Use: "list", Short: "List accounts", Args: cobra.NoArgs, Example: "  usher account list",
		RunE: a.withClient(func(ctx context.Context, cl *client.Client, _ []string) error {
			accounts, err := cl.Accounts(ctx)
			if err != nil || a.json {
				return a.jsonOr(accounts, err)
			}
			rows := [][]string{{"NAME", "ROLE", "STATE"}}
			for _, x := range accounts {
				rows = append(rows, []string{x.Name, string(x.Role), map[bool]string{true: "disabled", false: "—"}[x.Disabled]})
			}
			return a.table(rows)
		}),
	}
	c.AddCommand(add, list, a.accountSet())
	return c
}

// withClient gives a command a client of the service.
func (a *app) withClient(do func(ctx context.Context, cl *client.Client, args []string) error) func(*cobra.Command,
	[]string) error {
	return func(c *cobra.Command, args []string) error {
		cl, err := a.connect()
		if err != nil {
			return err
		}
		return do(c.Context(), cl, args)
	}
}

// jsonOr prints a value as JSON unless there was an error.
func (a *app) jsonOr(v any, err error) error {
	if err != nil {
		return err
	}
	return a.printJSON(v)
}
