package cli

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/spf13/cobra"

	"usherbench/api"
	"usherbench/client"
)

// accountSet changes an account of somebody else.
func (a *app) accountSet() *cobra.Command {
	var role string
	var disable, enable, password bool
	c := &cobra.Command{
		Use: "set NAME", Short: "Change the role or password of an account, disable it, or enable it again",
		Long: "Change the role or password of an account, disable it, or enable it again. Its tokens are withdrawn:\n" +
			"whoever uses it signs in anew.",
		Args: cobra.ExactArgs(1), Example: "  usher account set grace --role engineer\n  usher account set grace --disable",
		RunE: a.withClient(func(ctx context.Context, cl *client.Client, args []string) error {
			change := api.AccountChange{Role: api.Role(role)}
			if disable && enable {
				return usage("give --disable or --enable, not both")
			}
			if disable || enable {
				change.Disabled = &disable
			}
			if password {
				text, err := a.password(fmt.Sprintf("New password for %s: ", args[0]))
				if err != nil {
					return err
				}
				change.Password = text
			}
			if change == (api.AccountChange{}) {
				return usage("say what is to change: --role, --password, --disable or --enable")
			}
			account, err := cl.ChangeAccount(ctx, args[0], change)
			if err != nil || a.json {
				return a.jsonOr(account, err)
			}
			state := "may sign in"
			if account.Disabled {
				state = "is disabled"
			}
			fmt.Fprintf(a.out, "%s (%s) %s; the tokens given out before are withdrawn.\n", account.Name, account.Role, state)
			return nil
		}),
	}
	c.Flags().StringVar(&role, "role", "", "viewer, operator, engineer or admin")
	c.Flags().BoolVar(&password, "password", false, "give it a new password, which is asked for")
	c.Flags().BoolVar(&disable, "disable", false, "it can no longer sign in")
	c.Flags().BoolVar(&enable, "enable", false, "it can sign in again")
	return c
}

func (a *app) changePassword() *cobra.Command {
	return &cobra.Command{
		Use: "password", Short: "Change your own password; your other tokens are withdrawn", Args: cobra.NoArgs,
		Example: "  usher password",
		RunE: a.withClient(func(ctx context.Context, cl *client.Client, _ []string) error {
			old, err := a.password("Present password: ")
			if err != nil {
				return err
			}
			text, err := a.password("New password: ")
			if err != nil {
				return err
			}
			if err := cl.ChangePassword(ctx, api.PasswordChange{Old: old, New: text}); err != nil {
				return err
			}
			if a.json {
				return a.printJSON(struct{}{})
			}
			fmt.Fprintln(a.out, "Changed. Wherever else you were signed in, sign in anew.")
			return nil
		}),
	}
}

func (a *app) token() *cobra.Command {
	c := &cobra.Command{Use: "token", Short: "List the tokens that were given out, and withdraw them", Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error { return c.Help() }}
	list := &cobra.Command{
		Use: "list", Short: "List your tokens; as an admin those of everybody", Args: cobra.NoArgs,
		Example: "  usher token list",
		RunE: a.withClient(func(ctx context.Context, cl *client.Client, _ []string) error {
			tokens, err := cl.Tokens(ctx)
			if err != nil || a.json {
				return a.jsonOr(tokens, err)
			}
			rows := [][]string{{"TOKEN", "ACCOUNT", "KIND", "FROM", "GIVEN OUT", "EXPIRES"}}
			for _, t := range tokens {
				kind := t.Kind
				if t.Own {
					kind += " (this one)"
				}
				issued := "—"
				if !t.IssuedAt.IsZero() {
					issued = t.IssuedAt.Local().Format(time.DateTime)
				}
				rows = append(rows, []string{t.ID, t.Account, kind, orDash(t.Label), issued,
					t.ExpiresAt.Local().Format(time.DateOnly)})
			}
			return a.table(rows)
		}),
	}
	revoke := &cobra.Command{
		Use: "revoke TOKEN", Short: "Withdraw a token: it opens nothing any more", Args: cobra.ExactArgs(1),
		Example: "  usher token revoke 3f2a9c01b7de",
		RunE: a.withClient(func(ctx context.Context, cl *client.Client, args []string) error {
			if err := cl.RevokeToken(ctx, args[0]); err != nil {
				return err
			}
			if a.json {
				return a.printJSON(struct{}{})
			}
			fmt.Fprintln(a.out, "Withdrawn.")
			return nil
		}),
	}
	c.AddCommand(list, revoke)
	return c
}
func (a *app) journalVerify() *cobra.Command {
	return &cobra.Command{
		Use: "verify", Short: "Hold every entry of the journal against its seal", Args: cobra.NoArgs,
		Long: "Hold every entry of the journal against its seal, which covers the entries before it too. Keep the last\n" +
			"seal somewhere else: with it you can tell later whether the end of the journal was cut off.",
		Example: "  usher journal verify",
		RunE: a.withClient(func(ctx context.Context, cl *client.Client, _ []string) error {
			v, err := cl.VerifyJournal(ctx)
			if err != nil {
				return err
			}
			if a.json {
				err = a.printJSON(v)
			} else if v.Broken == 0 {
				fmt.Fprintf(a.out, "● %d entries are as they were written.\n", v.Entries)
				if v.Unsealed > 0 {
					fmt.Fprintf(a.out, "  %d older ones are from before entries were sealed.\n", v.Unsealed)
				}
				fmt.Fprintf(a.out, "  The last seal is %s.\n", orDash(v.Last))
			}
			if err == nil && v.Broken != 0 {
				return errors.New(v.Why + "; somebody or something has changed the records, compare them with a copy")
			}
			return err
		}),
	}
}
