package cli

import (
	"fmt"
	"math"
	"slices"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"
	"charm.land/lipgloss/v2"
	"github.com/guptarohit/asciigraph"
	"gonum.org/v1/gonum/stat"

	"usherbench/api"
	"usherbench/client"
	"usherbench/core/quantity"
	"usherbench/core/trace"
	"usherbench/report"
)

type lostMessage struct{ err error }

type heartbeat time.Time

func beat() tea.Cmd {
	return tea.Tick(500*time.Millisecond, func(t time.Time) tea.Msg { return heartbeat(t) })
}

// screen is the view as a terminal program.
type screen struct{ v *view }

func (s screen) Init() tea.Cmd { return beat() }

func (s screen) Update(m tea.Msg) (tea.Model, tea.Cmd) {
	switch m := m.(type) {
	case client.Event:
		s.v.take(m)
		s.v.lost = nil
	case lostMessage:
		s.v.lost = m.err
	case heartbeat:
		return s, beat()
	case tea.WindowSizeMsg:
		s.v.width, s.v.height = m.Width, m.Height
	case tea.KeyPressMsg:
		return s, s.v.key(m)
	case answeredMessage:
		s.v.failed = m.problem
	}
	return s, nil
}

type answeredMessage struct{ problem string }

// key takes a key: an answer is typed while the run asks for one, else q leaves.
func (v *view) key(m tea.KeyPressMsg) tea.Cmd {
	name := m.String()
	asks := v.bay.Prompt != nil && v.reply != nil
	switch {
	case name == "ctrl+c" || name == "esc" || name == "q" && !asks:
		v.left = true
		return tea.Quit
	case name == "d" && !asks:
		v.less = reductions[(slices.Index(reductions, v.less)+1)%len(reductions)]
	case !asks:
	case name == "enter":
		text, reply := v.typed, v.reply
		v.typed = ""
		return func() tea.Msg {
			if err := reply(text); err != nil {
				return answeredMessage{err.Error()}
			}
			return answeredMessage{}
		}
	case name == "backspace":
		if r := []rune(v.typed); len(r) > 0 {
			v.typed = string(r[:len(r)-1])
		}
	default:
		v.typed += m.Text
	}
	return nil
}

func (s screen) View() tea.View {
	view := tea.NewView(s.v.draw())
	view.AltScreen = true
	return view
}

func (v *view) draw() string {
	var b strings.Builder
	stale := v.lost != nil || time.Since(v.heard) > staleAfter
	b.WriteString(v.head(stale) + "\n\n" + v.readouts(stale) + "\n\n")
	rows := max((v.height-18)/2, 4)
	b.WriteString(v.curves("volts", "V", rows, voltsStyle) + "\n")
	b.WriteString(v.curves("amps", "A", rows, ampsStyle) + "\n")
	b.WriteString(v.foot())
	return b.String()
}

func (v *view) head(stale bool) string {
	state := mutedStyle.Render("○ " + string(v.bay.State))
	switch {
	case stale:
		state = failStyle.Render("■ no contact with the service, numbers are old")
	case v.bay.Alarm != "":
		state = failStyle.Render("■ " + plain(v.bay.Alarm))
	case v.bay.State == api.BayLive:
		state = liveStyle.Render("● live")
	}
	line := boldStyle.Render(v.bay.Title) + "  " + state
	if c := v.bay.Cover; c != nil {
		cover := api.Cover{Why: "no contact with the service"}
		if !stale {
			cover = *c
		}
		line += "  " + map[bool]lipgloss.Style{true: mutedStyle, false: failStyle}[cover.SafeToOpen].Render(coverWords(cover))
	}
	if r := v.bay.Run; r != nil {
		line += "  " + mutedStyle.Render(fmt.Sprintf("%s · %s, rev %d", plain(r.Serial), plain(r.Procedure), r.Revision))
	}
	return line
}

func (v *view) readouts(stale bool) string {
	var blocks []string
	for _, seat := range v.bay.Seats {
		line := mutedStyle.Render(fmt.Sprintf("%-7s", seat.Name))
		for _, q := range []struct {
			name     string
			decimals int
			style    lipgloss.Style
		}{{"volts", 3, voltsStyle}, {"amps", 4, ampsStyle}, {"watts", 2, wattsStyle}} {
			text := "—"
			if x := v.bay.Readings[seat.Name+"."+q.name]; x != nil && !stale {
				text = quantity.Fixed(*x, q.decimals)
			}
			unit := trace.UnitOf(seat.Name + "." + q.name).Symbol
			line += q.style.Render(fmt.Sprintf("%10s", text)) + " " + mutedStyle.Render(unit) + "  "
		}
		blocks = append(blocks, line)
	}
	return strings.Join(blocks, "\n")
}

// What the curves of a terminal are drawn less of, in the order in which a key goes through them.
var reductions = []string{"", lessMean, lessRated}

const lessMean, lessRated = "mean", "rated"

// curves draws a quantity of source and load: on common axes, or as their deviations, each on axes of its own, since
// what is small at one would not be seen beside what is large at the other.
func (v *view) curves(q, unit string, rows int, style lipgloss.Style) string {
	columns := []string{"source." + q, "load." + q}
	if v.less == "" {
		return v.curve(columns, unit, rows, style)
	}
	var parts []string
	for i, c := range columns {
		share := (rows + 1 - i) / len(columns)
		parts = append(parts, v.deviation(c, unit, max(share-1, 2), style))
	}
	return strings.Join(parts, "\n")
}

// curve draws the traces that are there on common axes.
func (v *view) curve(columns []string, unit string, rows int, style lipgloss.Style) string {
	var data [][]float64
	var names []string
	for _, c := range columns {
		if xs := v.traces[c]; len(xs) > 1 {
			data, names = append(data, xs), append(names, c)
		}
	}
	if len(data) == 0 {
		return mutedStyle.Render(unit+": no frames yet") + strings.Repeat("\n", rows)
	}
	colors := append([]asciigraph.AnsiColor{asciigraph.Gray}, colorOf(unit))
	return style.Render(unit) + mutedStyle.Render("  "+strings.Join(names, " (grey) and ")+v.span()) + "\n" +
		v.plot(data, rows, "%7.2f", 0, roundTop(data, rows-1), colors[2-len(data):])
}

// deviation draws one trace less its mean, or less what it is rated for.
func (v *view) deviation(column, unit string, rows int, style lipgloss.Style) string {
	xs := v.traces[column]
	from, words, known := stat.Mean(present(xs), nil), "its mean", true
	if v.less == lessRated {
		from, known = v.bay.Rated[column]
		in := trace.UnitOf(column)
		words = "rated " + quantity.Quantity{Value: from * in.Factor, Dim: in.Dim}.String()
	}
	if len(xs) < 2 || !known {
		why := "no frames yet"
		if !known {
			why = "the nameplate does not say what it is rated for"
		}
		return mutedStyle.Render(column+": "+why) + strings.Repeat("\n", rows)
	}
	off, far := make([]float64, len(xs)), make([]float64, len(xs))
	for i, x := range xs {
		off[i], far[i] = x-from, math.Abs(x-from)
	}
	top := roundTop([][]float64{far}, max((rows-1)/2, 1))
	return style.Render(unit) + mutedStyle.Render("  deviation of "+column+" from "+words+v.span()) + "\n" +
		v.plot([][]float64{off}, rows, "%+7.4f", -top, top, []asciigraph.AnsiColor{colorOf(unit)})
}

// present are the values that are there.
func present(xs []float64) []float64 { return slices.DeleteFunc(slices.Clone(xs), math.IsNaN) }

func colorOf(unit string) asciigraph.AnsiColor {
	if unit == "A" {
		return asciigraph.Orange
	}
	return asciigraph.SteelBlue
}

func (v *view) span() string {
	if n := len(v.t); n > 1 {
		return fmt.Sprintf("   %s to %s", report.Seconds(v.t[0]), report.Seconds(v.t[n-1]))
	}
	return ""
}

func (v *view) plot(data [][]float64, rows int, form string, low, high float64,
	colors []asciigraph.AnsiColor) string {
	return asciigraph.PlotMany(data, asciigraph.Height(max(rows-1, 1)), asciigraph.Width(max(v.width-14, 20)),
		asciigraph.YAxisValueFormatter(func(x float64) string { return fmt.Sprintf(form, x) }),
		asciigraph.SeriesColors(colors...), asciigraph.LowerBound(low), asciigraph.UpperBound(high))
}

// roundTop is the upper end of an axis whose rows are round numbers apart.
func roundTop(data [][]float64, rows int) float64 {
	var most float64
	for _, xs := range data {
		for _, x := range xs {
			if x > most { // a missing value is not
				most = x
			}
		}
	}
	raw := max(most, 1e-3) / float64(rows)
	power := math.Pow(10, math.Floor(math.Log10(raw)))
	for _, round := range []float64{1, 1.5, 2, 2.5, 3, 4, 5, 6, 8} {
		if raw <= round*power {
			return round * power * float64(rows)
		}
	}
	return 10 * power * float64(rows)
}

func (v *view) foot() string {
	var b strings.Builder
	if p := v.bay.Progress; p != nil {
		const width = 40
		full := min(max(int(p.Share*width), 0), width)
		b.WriteString(liveStyle.Render(strings.Repeat("━", full)) + mutedStyle.Render(strings.Repeat("─", width-full)))
		fmt.Fprintf(&b, "  %s %s  ", boldStyle.Render(p.Name), p.Detail)
		b.WriteString(mutedStyle.Render(report.Seconds(p.Left)+" to go") + "\n")
	}
	for _, g := range v.bay.Guards {
		b.WriteString(mutedStyle.Render(fmt.Sprintf("guard  %s  ", plain(g.Words))) + g.Distance +
			mutedStyle.Render(" to trip") + "\n")
	}
	for _, m := range v.marks {
		b.WriteString(mutedStyle.Render(m) + "\n")
	}
	if v.signal != "" {
		b.WriteString(liveStyle.Render("▶ "+plain(v.signal)) + "\n")
	}
	if p := v.bay.Prompt; p != nil {
		b.WriteString(liveStyle.Render("? "+plain(promptWords(*p))) + "  " + boldStyle.Render(v.typed+"▏") + "  " +
			failStyle.Render(v.failed) + "\n")
		b.WriteString(mutedStyle.Render("Enter answers; Esc leaves, the run goes on"))
		return b.String()
	}
	b.WriteString(mutedStyle.Render("d draws deviations; q leaves; the run goes on"))
	return b.String()
}
