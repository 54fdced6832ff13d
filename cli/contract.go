package cli

import (
	"fmt"
	"math"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"usherbench/core/contract"
	"usherbench/core/quantity"
)

// offer is a source object as it is told.
type offer struct {
	Position int    `json:"position"` // from 1
	Raw      string `json:"raw"`
	contract.Object
	// Need is what it needs of its cable; empty: it offers no current that can be told.
	Need contract.Need `json:"need,omitempty"`
}

// offers are all objects of a source, with what is odd about them.
type offers struct {
	Objects  []offer            `json:"objects"`
	Findings []contract.Finding `json:"findings"`
}

// contract reads what a charger offers.
func (a *app) contract() *cobra.Command {
	var cable string
	c := &cobra.Command{
		Use: "contract OBJECT…", Short: "Read the source objects of a charger (USB Power Delivery)",
		Args: cobra.MinimumNArgs(1),
		Long: `Read 32-bit source objects of USB Power Delivery (IEC 62680-1-2) in their order, such as a sniffer or a
charger's controller lists them: what each offers, what it needs of its cable, and what is odd about it. Nothing is
asked of a service. Numbers are hexadecimal, with or without 0x.`,
		Example: "  usher contract 0x0801912C 0x00064145 0xC0DC2164\n  usher contract 0801912c 00064145 --cable 3A",
		RunE: func(_ *cobra.Command, args []string) error {
			bears, err := cableAmps(cable)
			if err != nil {
				return err
			}
			all, err := readOffers(args, bears)
			if err != nil {
				return err
			}
			if a.json {
				return a.printJSON(all)
			}
			return a.printOffers(all)
		},
	}
	c.Flags().StringVar(&cable, "cable", "", "what the cable bears, such as 3A or 5A")
	return c
}

func cableAmps(text string) (float64, error) {
	if text == "" {
		return 0, nil
	}
	q, err := quantity.Parse(text)
	if err != nil || q.Dim != quantity.Current || !(q.Value > 0) || math.IsInf(q.Value, 0) {
		return 0, usage("what a cable bears is a current, such as 3A or 5A; %q is none", text)
	}
	return q.Value, nil
}

func readOffers(texts []string, cable float64) (offers, error) {
	all := offers{Findings: []contract.Finding{}}
	var objects []contract.Object
	for i, text := range texts {
		digits := strings.TrimPrefix(strings.ToLower(text), "0x")
		raw, err := strconv.ParseUint(digits, 16, 32)
		if err != nil {
			return all, usage("%q is no source object; write 32 bits as up to eight hexadecimal digits, such as 0x0801912C",
				text)
		}
		o := contract.Decode(uint32(raw))
		need, _ := o.Needs(cable)
		objects = append(objects, o)
		all.Objects = append(all.Objects, offer{i + 1, fmt.Sprintf("0x%08X", raw), o, need})
	}
	all.Findings = append(all.Findings, contract.Check(objects)...)
	return all, nil
}

func (a *app) printOffers(all offers) error {
	rows := [][]string{{"PLACE", "OBJECT", "KIND", "VOLTS", "AMPS", "WATTS", "SAYS", "CABLE"}}
	for _, o := range all.Objects {
		rows = append(rows, []string{strconv.Itoa(o.Position), o.Raw, string(o.Kind), o.volts(), o.amps(),
			orNone(o.Watts, "W"), orDash(strings.Join(o.says(), ", ")), orDash(string(o.Need))})
	}
	if err := a.table(rows); err != nil {
		return err
	}
	for _, f := range all.Findings {
		fmt.Fprintf(a.out, "place %d: %s\n", f.Position, f.Words)
	}
	return nil
}

func orNone(x float64, unit string) string {
	if x == 0 {
		return "—"
	}
	return fmt.Sprintf("%.2f %s", x, unit)
}

func (o offer) volts() string {
	if o.Lowest == o.Highest {
		return orNone(o.Highest, "V")
	}
	return fmt.Sprintf("%.2f to %.2f V", o.Lowest, o.Highest)
}

func (o offer) amps() string {
	if o.Kind == contract.StandardRange {
		return fmt.Sprintf("%.2f A to 15 V, %.2f A to 20 V", o.Amps, o.AmpsAbove)
	}
	return orNone(o.Amps, "A")
}

// says is what an object says beside volts, amps and watts. What it says of the whole source counts in the first place.
func (o offer) says() (words []string) {
	say := func(is bool, word string) {
		if is {
			words = append(words, word)
		}
	}
	if s := o.Source; o.Position == 1 {
		say(s.DualRolePower, "dual-role power")
		say(s.Suspend, "suspend")
		say(s.Unconstrained, "unconstrained power")
		say(s.Communications, "communications")
		say(s.DualRoleData, "dual-role data")
		say(s.Unchunked, "unchunked messages")
		say(s.Extended, "extended range")
	}
	say(o.Limited, "power limited")
	say(o.Peak > 0, fmt.Sprintf("peak current class %d", o.Peak))
	return words
}
