package cli

import (
	"fmt"
	"math"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"
	"charm.land/lipgloss/v2"
	"github.com/guptarohit/asciigraph"

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
	b.WriteString(v.curve([]string{"source.volts", "load.volts"}, "V", rows, voltsStyle) + "\n")
	b.WriteString(v.curve([]string{"source.amps", "load.amps"}, "A", rows, ampsStyle) + "\n")
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
	colors := []asciigraph.AnsiColor{asciigraph.Gray, asciigraph.SteelBlue}
	if unit == "A" {
		colors[1] = asciigraph.Orange
	}
	plot := asciigraph.PlotMany(data, asciigraph.Height(rows-1), asciigraph.Width(max(v.width-14, 20)),
		asciigraph.YAxisValueFormatter(func(x float64) string { return fmt.Sprintf("%7.2f", x) }),
		asciigraph.SeriesColors(colors[2-len(data):]...), asciigraph.LowerBound(0),
		asciigraph.UpperBound(roundTop(data, rows-1)))
	span := ""
	if n := len(v.t); n > 1 {
		span = fmt.Sprintf("   %s to %s", report.Seconds(v.t[0]), report.Seconds(v.t[n-1]))
	}
	return style.Render(unit) + mutedStyle.Render("  "+strings.Join(names, " (grey) and ")+span) + "\n" + plot
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
	b.WriteString(mutedStyle.Render("q leaves; the run goes on"))
	return b.String()
}
