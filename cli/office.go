package cli

import (
	"context"
	"fmt"
	"os"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"usherbench/api"
	"usherbench/client"
	"usherbench/outbox"
	"usherbench/report"
)

// stateOf is whether operators may run a revision.
func stateOf(p api.Procedure) string {
	if p.Released != nil {
		return "released"
	}
	return "draft"
}

// release makes a revision one that operators may run.
func (a *app) release() *cobra.Command {
	var r api.ReleaseRequest
	var draft bool
	c := &cobra.Command{
		Use: "release PROCEDURE", Short: "Release a revision for operators, or take that back", Args: cobra.ExactArgs(1),
		Long: `Release a revision of a procedure: operators run the newest released one, and no others where there is one.
Engineers run drafts too. A release is a state of a revision, with who gave it and why; its text is the same.`,
		Example: "  usher procedure release tern-outgoing --why \"first article passed\"\n" +
			"  usher procedure release tern-outgoing --revision 2 --draft --why \"limit too tight\"",
		RunE: a.withClient(func(ctx context.Context, cl *client.Client, args []string) error {
			r.Released = !draft
			p, err := cl.ReleaseRevision(ctx, args[0], r)
			if err != nil || a.json {
				return a.jsonOr(p, err)
			}
			fmt.Fprintf(a.out, "%s revision %d: %s\n", p.Name, p.Revision, stateOf(p))
			return nil
		}),
	}
	c.Flags().IntVar(&r.Revision, "revision", 0, "which one; 0: the newest")
	c.Flags().StringVar(&r.Why, "why", "", "reason, kept with the release and in the journal")
	c.Flags().BoolVar(&draft, "draft", false, "make it a draft again")
	return c
}

// office shows and sets what is for the whole house.
func (a *app) office() *cobra.Command {
	c := &cobra.Command{Use: "office", Short: "How reports look, who is told of runs, what operators may run",
		Args: cobra.NoArgs, RunE: func(c *cobra.Command, _ []string) error { return c.Help() }}
	show := &cobra.Command{
		Use: "show", Short: "What the office has set", Args: cobra.NoArgs, Example: "  usher office show",
		RunE: a.withClient(func(ctx context.Context, cl *client.Client, _ []string) error {
			o, err := cl.Office(ctx)
			if err != nil || a.json {
				return a.jsonOr(o, err)
			}
			return a.printOffice(o)
		}),
	}
	c.AddCommand(show, a.officeSet(), a.officeTell(), a.officeUntell(), a.outbox())
	return c
}

func (a *app) printOffice(o api.Office) error {
	logo := "—"
	if len(o.Look.Logo) > 0 {
		logo = fmt.Sprintf("%d bytes", len(o.Look.Logo))
	}
	rows := [][]string{{"company", orDash(plain(o.Look.Company))}, {"logo", logo}, {"paper", orUsual(o.Look.Paper, "a4")},
		{"language", orUsual(o.Look.Language, "en")}, {"document number", orDash(plain(o.Look.Document))},
		{"signatures", orDash(plain(strings.Join(o.Look.Signatures, ", ")))},
		{"reports go into", orDash(plain(o.Reports))}, {"named", orUsual(plain(o.File), "{procedure}_{serial}_{run}")},
		{"operators run", "what is released, else the newest"}}
	if o.OnlyReleased {
		rows[len(rows)-1][1] = "released procedures only"
	}
	for _, t := range o.Tell {
		rows = append(rows, []string{"is told of runs", plain(t.To)})
	}
	return a.table(rows)
}

func orUsual(text, usual string) string {
	if text == "" {
		return usual
	}
	return text
}

// changeOffice changes what the office has set.
func (a *app) changeOffice(ctx context.Context, cl *client.Client, change func(*api.Office) error) error {
	o, err := cl.Office(ctx)
	if err != nil {
		return err
	}
	if err := change(&o); err != nil {
		return err
	}
	if o, err = cl.SetOffice(ctx, o); err != nil || a.json {
		return a.jsonOr(o, err)
	}
	return a.printOffice(o)
}

func (a *app) officeSet() *cobra.Command {
	var set api.Office
	var logo string
	c := &cobra.Command{
		Use: "set", Short: "Set how reports look, where they go, and what operators may run", Args: cobra.NoArgs,
		Long: `Set what is for the whole house; what is not given stays. Patterns may hold {serial}, {procedure}, {lot},
{bay}, {outcome}, {run}, {date}, {nameplate} and {operator}.`,
		Example: "  usher office set --company \"Skerry Light Works\" --logo logo.png --language de --sign \"Tested by\"\n" +
			"  usher office set --reports reports --file \"{lot}/{serial}_{outcome}\"\n" +
			"  usher office set --only-released",
	}
	f := c.Flags()
	f.StringVar(&set.Look.Company, "company", "", "name in the head of reports")
	f.StringVar(&logo, "logo", "", "PNG or JPEG file for the head of reports; none takes it out")
	f.StringVar(&set.Look.Paper, "paper", "", "a4 or letter")
	f.StringVar(&set.Look.Language, "language", "",
		"of the fixed words of reports: "+strings.Join(report.Languages(), ", "))
	f.StringVar(&set.Look.Document, "document", "", "pattern of document numbers, such as SLW-{procedure}-{serial}")
	f.StringArrayVar(&set.Look.Signatures, "sign", nil,
		"who signs reports, such as \"Tested by\"; may be given again")
	f.StringVar(&set.Reports, "reports", "", "folder in the data folder into which every run's report is written")
	f.StringVar(&set.File, "file", "", "pattern of their names")
	f.BoolVar(&set.OnlyReleased, "only-released", false, "operators run procedures only that have a released revision")
	c.RunE = a.withClient(func(ctx context.Context, cl *client.Client, _ []string) error {
		return a.changeOffice(ctx, cl, func(o *api.Office) error {
			for name, put := range map[string]func(){
				"company":       func() { o.Look.Company = set.Look.Company },
				"paper":         func() { o.Look.Paper = set.Look.Paper },
				"language":      func() { o.Look.Language = set.Look.Language },
				"document":      func() { o.Look.Document = set.Look.Document },
				"sign":          func() { o.Look.Signatures = set.Look.Signatures },
				"reports":       func() { o.Reports = set.Reports },
				"file":          func() { o.File = set.File },
				"only-released": func() { o.OnlyReleased = set.OnlyReleased },
			} {
				if f.Changed(name) {
					put()
				}
			}
			if !f.Changed("logo") {
				return nil
			}
			o.Look.Logo = nil
			if logo == "" || logo == "none" {
				return nil
			}
			data, err := os.ReadFile(logo)
			o.Look.Logo = data
			return err
		})
	})
	return c
}

func (a *app) officeTell() *cobra.Command {
	var secret string
	c := &cobra.Command{
		Use: "tell ADDRESS", Short: "Tell somebody of every run that ends", Args: cobra.ExactArgs(1),
		Long: `Tell somebody of every run that ends from now on, with its figures: https:// or http:// is posted to, mqtts://
or mqtt://HOST:PORT/TOPIC gets a message of MQTT 5. What is to be sent survives a restart and is tried until it goes
out; a message that comes twice has the same number (Usher-Message). With a secret it is signed: Usher-Signature is
HMAC-SHA256 over Usher-Time, a full stop and the body.`,
		Example: "  usher office tell https://mes.example/runs --secret lantern\n  usher office tell mqtt://broker:1883/runs",
		RunE: a.withClient(func(ctx context.Context, cl *client.Client, args []string) error {
			if err := outbox.Check(args[0]); err != nil {
				return usage("%s", err)
			}
			return a.changeOffice(ctx, cl, func(o *api.Office) error {
				o.Tell = append(slices.DeleteFunc(o.Tell, func(t api.Told) bool { return t.To == outbox.Shown(args[0]) }),
					api.Told{To: args[0], Secret: secret})
				return nil
			})
		}),
	}
	c.Flags().StringVar(&secret, "secret", "", "signs what is sent")
	return c
}

func (a *app) officeUntell() *cobra.Command {
	return &cobra.Command{
		Use: "untell ADDRESS", Short: "Tell somebody no more", Args: cobra.ExactArgs(1),
		Example: "  usher office untell mqtt://broker:1883/runs",
		RunE: a.withClient(func(ctx context.Context, cl *client.Client, args []string) error {
			return a.changeOffice(ctx, cl, func(o *api.Office) error {
				before := len(o.Tell)
				o.Tell = slices.DeleteFunc(o.Tell, func(t api.Told) bool { return t.To == outbox.Shown(args[0]) })
				if len(o.Tell) == before {
					return usage("nobody is told at %s; see usher office show", args[0])
				}
				return nil
			})
		}),
	}
}

// outbox lists who is to be told of what.
func (a *app) outbox() *cobra.Command {
	var waiting bool
	c := &cobra.Command{
		Use: "outbox", Short: "Who is to be told of which run, or was", Args: cobra.NoArgs,
		Example: "  usher office outbox --waiting",
		RunE: a.withClient(func(ctx context.Context, cl *client.Client, _ []string) error {
			all, err := cl.Outbox(ctx, waiting)
			if err != nil || a.json {
				return a.jsonOr(all, err)
			}
			rows := [][]string{{"MESSAGE", "TO", "RUN", "TRIES", "SENT", "ERROR"}}
			for _, m := range all {
				sent := "waits until " + m.Next.Local().Format("15:04:05")
				if m.Sent != nil {
					sent = m.Sent.Local().Format("2006-01-02 15:04:05")
				}
				rows = append(rows, []string{fmt.Sprint(m.ID), plain(m.To), m.Run, fmt.Sprint(m.Tries), sent, plain(m.Error)})
			}
			return a.table(rows)
		}),
	}
	c.Flags().BoolVar(&waiting, "waiting", false, "only what was not sent yet")
	return c
}
