package cli

import (
	"fmt"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"
	"charm.land/lipgloss/v2"

	"usherbench/api"
	"usherbench/client"
)

// placeScreen is an operator's place over a whole terminal: one field that is always typed into, and one colour. With
// several places each has a share of it.
type placeScreen struct {
	places        []api.Place
	act           func(text string) ([]api.Place, error)
	typed         string
	problem       string
	lost          error
	busy          bool // what was scanned is being looked at
	width, height int
	left          bool
}

// actedMessage is what came of something typed or scanned.
type actedMessage struct {
	places []api.Place
	err    error
}

func (s *placeScreen) Init() tea.Cmd { return beat() }

func (s *placeScreen) Update(m tea.Msg) (tea.Model, tea.Cmd) {
	switch m := m.(type) {
	case client.Event:
		s.lost = nil
		return s, s.take(m)
	case lostMessage:
		s.lost = m.err
	case tea.WindowSizeMsg:
		s.width, s.height = m.Width, m.Height
	case tea.KeyPressMsg:
		return s, s.key(m)
	case actedMessage:
		s.busy = false
		if s.problem = ""; m.err != nil {
			s.problem = m.err.Error()
			return s, ring(3)
		}
		for _, place := range m.places {
			s.put(place)
		}
	}
	return s, nil
}

// take takes what is told of the place; a unit that is through is heard.
func (s *placeScreen) take(e client.Event) tea.Cmd {
	var now api.Place
	if e.Kind != api.EventPlace || e.Into(&now) != nil {
		return nil
	}
	before, known := s.put(now)
	if !known {
		return nil // the place of another bay
	}
	if l := now.Last; l != nil && (before == nil || !before.At.Equal(l.At)) {
		s.problem = ""
		return ring(map[api.UnitVerdict]int{api.VerdictPass: 1, api.VerdictMarginal: 2}[l.Verdict])
	}
	return nil
}

// put puts how a place is in the place of how it was, and gives what came of its unit before; of what comes late
// nothing is known.
func (s *placeScreen) put(now api.Place) (before *api.PlaceResult, known bool) {
	i := slices.IndexFunc(s.places, func(p api.Place) bool { return p.Bay == now.Bay })
	if i < 0 || now.Change < s.places[i].Change {
		return nil, false
	}
	before, s.places[i] = s.places[i].Last, now
	return before, true
}

// ring sounds the terminal's bell: once for a pass, twice for a marginal one, three times for what needs a person.
func ring(times int) tea.Cmd {
	if times == 0 {
		times = 3
	}
	return tea.Raw(strings.Repeat("\a", times))
}

func (s *placeScreen) key(m tea.KeyPressMsg) tea.Cmd {
	do := func(text string) tea.Cmd {
		s.busy, s.problem = true, ""
		return func() tea.Msg {
			places, err := s.act(text)
			return actedMessage{places, err}
		}
	}
	switch name := m.String(); {
	case name == "ctrl+c":
		s.left = true
		return tea.Quit
	case s.busy:
		return nil
	case name == "esc":
		s.typed = ""
		return do(takeBack)
	case name == "enter":
		text := strings.TrimSpace(s.typed)
		s.typed = ""
		return do(text)
	case name == "backspace":
		if r := []rune(s.typed); len(r) > 0 {
			s.typed = string(r[:len(r)-1])
		}
	default:
		s.typed += m.Text
	}
	return nil
}

func (s *placeScreen) View() tea.View {
	view := tea.NewView(s.draw())
	view.AltScreen = true
	return view
}

// The colours of verdicts, ink on ground.
var verdictStyles = map[api.UnitVerdict]lipgloss.Style{
	api.VerdictPass:      banner("#ffffff", "#00684d"),
	api.VerdictMarginal:  banner("#2b1d00", "#f3b33d"),
	api.VerdictFail:      banner("#ffffff", "#a3231c"),
	api.VerdictAttention: banner("#ffffff", "#3d4f8f"),
}

func banner(ink, ground string) lipgloss.Style {
	return lipgloss.NewStyle().Bold(true).Foreground(lipgloss.Color(ink)).Background(lipgloss.Color(ground))
}

// waiting is the ground while a unit is waited for or tested.
var waiting = banner("#e8efe9", "#24413d")

// footHeight is how much of the screen the scan field and what is below the places need.
const footHeight = 7

func (s *placeScreen) draw() string {
	var blocks, tallies []string
	next := nextOf(s.places)
	for _, p := range s.places {
		block, tally := s.block(p, len(s.places) > 1 && next != nil && next.Bay == p.Bay)
		blocks = append(blocks, block)
		if !slices.Contains(tallies, tally) {
			tallies = append(tallies, tally)
		}
	}
	foot := "scan ▸ " + boldStyle.Render(s.typed+"▏")
	if s.problem != "" {
		foot += "\n" + failStyle.Render("■ "+plain(s.problem))
	}
	return strings.Join([]string{lipgloss.JoinHorizontal(lipgloss.Top, blocks...),
		mutedStyle.Render(strings.Join(tallies, " · ")), foot,
		mutedStyle.Render("Enter begins or makes a serial number · Esc takes a scan back · Ctrl-C leaves")}, "\n")
}

// block is a place with its head, and the counts below it; next says that what is scanned goes there.
func (s *placeScreen) block(p api.Place, next bool) (block, tally string) {
	width := max(s.width/len(s.places), 20)
	setup := p.Setup
	if setup == nil {
		return failStyle.Width(width).Render("■ " + p.Title + " was cleared; set it up again"), ""
	}
	what := strings.Join(setup.Procedures, ", ")
	if setup.Card != "" {
		what = "card of " + setup.Card
	}
	mark := ""
	if next {
		mark = boldStyle.Render("▸ ")
	}
	head := mark + boldStyle.Render(p.Title) + mutedStyle.Render("  "+plain(what)+"  lot "+orDash(plain(setup.Lot)))
	style, lines := s.state(p)
	block = style.Width(width).Height(max(s.height-footHeight, 4)).Align(lipgloss.Center, lipgloss.Center).
		Render(strings.Join(lines, "\n"))
	return lipgloss.JoinVertical(lipgloss.Left, lipgloss.NewStyle().MaxWidth(width).Render(head), block),
		tallyWords(p.Tally)
}

// state is what fills a place: the outcome of the last unit, or what goes on.
func (s *placeScreen) state(p api.Place) (lipgloss.Style, []string) {
	u, l := p.Unit, p.Last
	switch {
	case s.lost != nil:
		return verdictStyles[api.VerdictAttention], []string{"◆  NO CONTACT WITH THE SERVICE", "a test that runs goes on"}
	case p.Held != "":
		return verdictStyles[api.VerdictAttention], []string{"◆  HELD", plain(p.Held)}
	case u != nil && u.Problem != "":
		return verdictStyles[api.VerdictAttention], []string{"◆  NOT BEGUN", plain(u.Serial), plain(u.Problem)}
	case u != nil && u.Run != "":
		return waiting, []string{"…  TESTING", plain(u.Serial), fmt.Sprintf("%d of %d", u.Of-len(u.ToDo), u.Of)}
	case u != nil && len(u.Wanted) > 0:
		return waiting, []string{"▸  SCAN " + strings.ToUpper(u.Wanted[0]), "of " + plain(u.Serial)}
	case u != nil:
		return waiting, []string{"▸  READY", plain(u.Serial), "Enter begins"}
	case l != nil:
		return verdictStyles[l.Verdict], append([]string{verdictShapes[l.Verdict] + "  " +
			strings.ToUpper(string(l.Verdict)), plain(l.Serial), ""}, plainAll(l.Words)...)
	}
	return waiting, []string{"▸  SCAN A UNIT"}
}

func plainAll(lines []string) (all []string) {
	for _, line := range lines {
		all = append(all, plain(line))
	}
	return all
}
