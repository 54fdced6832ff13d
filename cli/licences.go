package cli

import (
	_ "embed"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"usherbench/core/document"
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
		Long:    "List the parts of the program that are the work of others, or show the licence of one.",
		Example: "  usher licences\n  usher licences github.com/spf13/cobra\n  usher licences --json",
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
	var names []string
	for _, n := range all {
		name, _, _ := strings.Cut(n.Part, " ")
		if name != part {
			names = append(names, name)
			continue
		}
		if a.json {
			return a.printJSON(n)
		}
		fmt.Fprintf(a.out, "%s\n\n%s\n", n.Part, n.Text)
		return nil
	}
	return usage("nothing called %q is part of the program; %s", part, document.Suggest(part, names))
}
