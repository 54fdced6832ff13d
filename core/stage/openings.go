package stage

// WatchOpenings has the crosspoint at a seat watch pairs of its terminals, counted from 0, for openings of at least
// Least seconds: [Opened] tells them as they come.
type WatchOpenings struct {
	Seat  string
	Pairs [][2]int
	// Least is the shortest opening that counts, s.
	Least float64
	// Shot tells the answers to this from those to an earlier one.
	Shot int
}

// EndWatch has the crosspoint watch no longer: the last [Opened] tells what is left.
type EndWatch struct{ Shot int }

// Opening is a time in which a pair was not joined: which of the pairs, when it began, and for how long, s since the
// watch began.
type Opening struct {
	Pair          int
	Began, Lasted float64
}

// Opened is what a watch saw since it was asked last; the first says that it began. Since is when the watch began, s
// since the start of the run.
type Opened struct {
	T     float64
	Shot  int
	Since float64
	All   []Opening
	// Done is true when nothing more comes.
	Done bool
}

func (WatchOpenings) effect() {}
func (EndWatch) effect()      {}
func (Opened) event()         {}

// Heeding stages take what was seen of a harness while it is bent.
type Heeding interface {
	Opened(m *Machine, e Opened) ([]Effect, Verdict)
}

// onOpened gives a stage that watches what was seen.
func (m *Machine) onOpened(e Opened) []Effect {
	r, ok := m.runner().(Heeding)
	if !ok || m.state.Paused {
		return nil
	}
	m.state.Now = max(m.state.Now, e.T)
	return m.follow(r.Opened(m, e))
}
