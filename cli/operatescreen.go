package cli

import (
	"fmt"
	"strings"

	tea "charm.land/bubbletea/v2"
	"charm.land/lipgloss/v2"

	"usherbench/api"
	"usherbench/client"
)

// placeScreen is an operator's place over a whole terminal: one field that is always typed into, and one colour.
type placeScreen struct {
	place         api.Place
	act           func(text string) (api.Place, error)
	typed         string
	problem       string
	lost          error
	busy          bool // what was scanned is being looked at
	width, height int
	left          bool
}

// actedMessage is what came of something typed or scanned.
type actedMessage struct {
	place api.Place
	err   error
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
		s.place = m.place
	}
	return s, nil
}

// take takes what is told of the place; a unit that is through is heard.
func (s *placeScreen) take(e client.Event) tea.Cmd {
	var now api.Place
	if e.Kind != api.EventPlace || e.Into(&now) != nil {
		return nil
	}
	before := s.place.Last
	s.place = now
	if l := now.Last; l != nil && (before == nil || !before.At.Equal(l.At)) {
		s.problem = ""
		return ring(map[api.UnitVerdict]int{api.VerdictPass: 1, api.VerdictMarginal: 2}[l.Verdict])
	}
	return nil
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
			place, err := s.act(text)
			return actedMessage{place, err}
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

func (s *placeScreen) draw() string {
	setup := s.place.Setup
	if setup == nil {
		return failStyle.Render("■ the place was cleared; set it up again")
	}
	what := strings.Join(setup.Procedures, ", ")
	if setup.Card != "" {
		what = "card of " + setup.Card
	}
	head := boldStyle.Render(s.place.Title) + mutedStyle.Render("  "+plain(what)+"  lot "+orDash(plain(setup.Lot)))
	style, lines := s.state()
	height := max(s.height-7, 4)
	block := style.Width(max(s.width, 20)).Height(height).Align(lipgloss.Center, lipgloss.Center).
		Render(strings.Join(lines, "\n"))
	foot := "scan ▸ " + boldStyle.Render(s.typed+"▏")
	if s.problem != "" {
		foot += "\n" + failStyle.Render("■ "+plain(s.problem))
	}
	return strings.Join([]string{head, block, mutedStyle.Render(tallyWords(s.place.Tally)), foot,
		mutedStyle.Render("Enter begins or makes a serial number · Esc takes a scan back · Ctrl-C leaves")}, "\n")
}

// state is what fills the screen: the outcome of the last unit, or what goes on.
func (s *placeScreen) state() (lipgloss.Style, []string) {
	u, l := s.place.Unit, s.place.Last
	switch {
	case s.lost != nil:
		return verdictStyles[api.VerdictAttention], []string{"◆  NO CONTACT WITH THE SERVICE", "a test that runs goes on"}
	case s.place.Held != "":
		return verdictStyles[api.VerdictAttention], []string{"◆  HELD", plain(s.place.Held)}
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
