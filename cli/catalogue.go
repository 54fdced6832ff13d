package cli

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"usherbench/api"
)

// catalogue lists what this program knows; no service is needed.
func (a *app) catalogue() *cobra.Command {
	parts := []string{"quantities", "seats", "stages", "figures", "units"}
	return &cobra.Command{
		Use: "catalogue [PART]", Short: "List the quantities, seats, stages, figures and kinds of units that there are",
		Long: "List what this program knows: the quantities of seats with their units, the kinds of seats with their\n" +
			"roles, the kinds of stages, the figures, and the kinds of units with what a nameplate states of them. PART is\n" +
			"one of " + strings.Join(parts, ", ") + ".",
		Example:   "  usher catalogue figures\n  usher catalogue --json",
		ValidArgs: parts, Args: cobra.MatchAll(cobra.MaximumNArgs(1), cobra.OnlyValidArgs),
		RunE: func(_ *cobra.Command, args []string) error {
			c := api.NewCatalogue()
			if a.json {
				return a.printJSON(c)
			}
			for _, part := range parts {
				if len(args) == 1 && args[0] != part {
					continue
				}
				if err := a.table(catalogueRows(c, part)); err != nil {
					return err
				}
				fmt.Fprintln(a.out)
			}
			return nil
		},
	}
}

// choices words what can be told: "sense: remote, local".
func choices(of map[string][]string) string {
	var all []string
	for _, name := range slices.Sorted(maps.Keys(of)) {
		all = append(all, name+": "+strings.Join(of[name], ", "))
	}
	return strings.Join(all, "; ")
}

// catalogueRows are a part of the catalogue as a table with its heading.
func catalogueRows(c api.Catalogue, part string) (rows [][]string) {
	switch part {
	case "quantities":
		rows = append(rows, []string{"QUANTITY", "UNIT", "PARTS", "IS"})
		for _, q := range c.Quantities {
			rows = append(rows, []string{q.Name, orDash(q.Unit), orDash(strings.Join(q.Parts, ", ")), q.Title})
		}
	case "seats":
		rows = append(rows, []string{"SEAT", "DOES", "READS", "SETS", "CAN BE TOLD"})
		for _, s := range c.Seats {
			rows = append(rows, []string{s.Name, strings.Join(s.Roles, ", "), strings.Join(s.Reads, ", "),
				orDash(strings.Join(s.Sets, ", ")), orDash(choices(s.Choices))})
		}
	case "stages":
		rows = append(rows, []string{"STAGE", "DOES"})
		for _, s := range c.Stages {
			rows = append(rows, []string{s.Word, s.About})
		}
	case "units":
		rows = append(rows, []string{"UNIT", "ITS DATA SHEET STATES", "A FIRST RUN BEGINS FROM"})
		for _, u := range c.Units {
			var ratings []string
			for _, f := range u.Fields {
				ratings = append(ratings, f.Rating+" ("+f.Example+")")
			}
			rows = append(rows, []string{u.Name, strings.Join(ratings, ", "), orDash(u.Procedure)})
		}
	case "figures":
		rows = append(rows, []string{"FIGURE", "UNIT", "NEEDS", "IS"})
		for _, f := range c.Figures {
			rows = append(rows, []string{f.ID, orDash(f.Unit), orDash(f.Needs), f.Title})
		}
	}
	return rows
}
