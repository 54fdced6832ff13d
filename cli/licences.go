package cli

import (
	_ "embed"
	"fmt"
	"strings"

	"github.com/spf13/cobra"
)

// notices are those of everything that is part of the program; scripts/notices.sh writes them.
//
//go:embed notices.txt
var notices string

// notice is the licence of one part.
type notice struct {
	Part string `json:"part"`
	Text string `json:"text"`
}

// allNotices lists the parts of the program that are the work of others, with their licences.
func allNotices() (all []notice) {
	for _, section := range strings.Split(notices, "\n==== ")[1:] {
		part, text, _ := strings.Cut(section, " ====\n")
		all = append(all, notice{part, strings.TrimSpace(text)})
	}
	return all
}

func (a *app) licences() *cobra.Command {
	return &cobra.Command{
		Use: "licences [PART]", Short: "Show whose work is part of the program, and its licences",
		Args:    cobra.MaximumNArgs(1),
		Long:    "List the parts of the program that are the work of others, or show the licences of those with a name.",
		Example: "  usher licences\n  usher licences cobra\n  usher licences --json",
		RunE: func(_ *cobra.Command, args []string) error {
			all := allNotices()
			if len(args) == 1 {
				return a.licenceOf(all, args[0])
			}
			if a.json {
				return a.printJSON(all)
			}
			for _, n := range all {
				fmt.Fprintln(a.out, n.Part)
			}
			return nil
		},
	}
}

func (a *app) licenceOf(all []notice, part string) error {
	var found []notice
	for _, n := range all {
		name, _, _ := strings.Cut(n.Part, " ")
		if name == part {
			found = []notice{n}
			break
		}
		if strings.Contains(name, part) {
			found = append(found, n)
		}
	}
	if len(found) == 0 {
		return usage("nothing called %q is part of the program; see all parts with: usher licences", part)
	}
	if a.json {
		return a.printJSON(found)
	}
	for _, n := range found {
		fmt.Fprintf(a.out, "%s\n\n%s\n\n", n.Part, n.Text)
	}
	return nil
}
