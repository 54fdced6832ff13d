package cli

import (
	"encoding/json"
	"errors"
	"regexp"
	"strings"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"usherbench/api"
	"usherbench/client"
	"usherbench/core/record"
	"usherbench/core/stage"
)

func number(x float64) *float64 { return &x }

func liveBay() api.Bay {
	return api.Bay{
		Name: "bay1", Title: "Bay 1", State: api.BayLive, Seats: []api.Seat{{Name: "source"}, {Name: "load"}},
		Run:      &api.RunSummary{ID: "01A", Serial: "TN-2208", Procedure: "tern-line-load", Revision: 2},
		Progress: &stage.Progress{Stage: 1, Name: "efficiency map", Detail: "12 of 48 points", Share: 0.25, Left: 18},
		Guards:   []stage.GuardState{{Words: "output runs away", Distance: "2 V"}},
		Readings: map[string]*float64{"source.volts": number(48.0012), "source.amps": number(1.25),
			"source.watts": number(60), "load.volts": nil, "load.amps": number(-0.5)},
	}
}

func event(t *testing.T, kind string, data any) client.Event {
	text, err := json.Marshal(data)
	require.NoError(t, err)
	return client.Event{Kind: kind, Data: text}
}

var colours = regexp.MustCompile("\x1b\\[[0-9;]*m")

func drawn(v *view) string { return colours.ReplaceAllString(v.draw(), "") }

func TestTheWatchViewShowsWhatItHears(t *testing.T) {
	v := newView(api.Bay{Title: "Bay 1"})
	v.take(event(t, api.EventBay, liveBay()))
	var f api.Frames
	f.Run, f.Columns = "01A", []string{"source.volts", "load.amps"}
	f.Values = make([][]*float64, 2)
	for i := range 50 {
		f.T = append(f.T, float64(i))
		f.Values[0], f.Values[1] = append(f.Values[0], number(48)), append(f.Values[1], number(float64(i)/10))
	}
	f.Values[0][3] = nil
	v.take(event(t, api.EventFrames, f))
	v.take(event(t, api.EventMark,
		api.MarkEvent{Mark: record.Mark{T: 3, Kind: record.MarkCondition, Label: "load.volts > 14 V\x1b[2J"}}))
	v.take(event(t, api.EventMark,
		api.MarkEvent{Mark: record.Mark{T: 3, Kind: record.MarkCommand, Label: "load.amps = 1 A"}}))
	text := drawn(v)
	for _, want := range []string{"Bay 1  ● live  TN-2208 · tern-line-load, rev 2", "48.001 V", "—", "−0.5000 A",
		"efficiency map 12 of 48 points  18.00 s to go", "output runs away  2 V to trip",
		"0.00 s to 49.00 s", "load.volts > 14 V[2J", "q leaves; the run goes on", "┤"} {
		assert.Contains(t, text, want)
	}
	assert.NotContains(t, text, "load.amps = 1 A", "commands are too many to show")
	assert.NotContains(t, v.draw(), "\x1b[2J", "text of others cannot act on the terminal")
	assert.Contains(t, v.line(), "live  efficiency map 12 of 48 points, 18.00 s to go  source.volts 48.0012 V")
	for _, line := range strings.Split(text, "\n") {
		assert.LessOrEqual(t, len([]rune(line)), v.width, line)
	}

	press := func() { v.key(tea.KeyPressMsg{Code: 'd', Text: "d"}) }
	v.bay.Rated = map[string]float64{"source.volts": 48}
	press()
	assert.Contains(t, drawn(v), "deviation of source.volts from its mean")
	assert.Contains(t, drawn(v), "deviation of load.amps from its mean")
	press()
	assert.Contains(t, drawn(v), "deviation of source.volts from rated 48 V")
	assert.Contains(t, drawn(v), "load.amps: the nameplate does not say what it is rated for")
	for _, line := range strings.Split(drawn(v), "\n") {
		assert.LessOrEqual(t, len([]rune(line)), v.width, line)
	}
	assert.LessOrEqual(t, strings.Count(drawn(v), "\n"), v.height)
	press()
	assert.NotContains(t, drawn(v), "deviation of")

	next := liveBay()
	next.Run = &api.RunSummary{ID: "01B", Serial: "TN-2209"}
	v.take(event(t, api.EventBay, next))
	assert.Empty(t, v.t, "another run begins with empty curves")
	assert.Contains(t, drawn(v), "no frames yet")
	v.take(client.Event{Kind: api.EventFrames, Data: []byte("not JSON")})
}

func TestAWatchViewThatHearsNothingSaysSo(t *testing.T) {
	v := newView(liveBay())
	assert.Contains(t, drawn(v), "48.001 V")
	v.heard = time.Now().Add(-time.Minute)
	assert.Contains(t, drawn(v), "■ no contact with the service, numbers are old")
	assert.NotContains(t, drawn(v), "48.001 V", "an old number is not shown as live")
	v.heard = time.Now()
	s := screen{v}
	s.Update(lostMessage{errors.New("cut")})
	assert.Contains(t, drawn(v), "no contact")
	s.Update(event(t, api.EventBay, liveBay()))
	assert.Contains(t, drawn(v), "● live")
	alarmed := liveBay()
	alarmed.Alarm = "An output may still be on"
	s.Update(event(t, api.EventBay, alarmed))
	assert.Contains(t, drawn(v), "■ An output may still be on")
}

func TestTheCurvesOfATerminalAreBounded(t *testing.T) {
	v := newView(liveBay())
	for i := range 40 {
		f := api.Frames{Columns: []string{"load.amps"}, Values: make([][]*float64, 1)}
		for k := range 100 {
			f.T, f.Values[0] = append(f.T, float64(100*i+k)), append(f.Values[0], number(1))
		}
		v.take(event(t, api.EventFrames, f))
	}
	assert.Len(t, v.t, keptFrames)
	assert.Len(t, v.traces["load.amps"], keptFrames)
	assert.Equal(t, 3999.0, v.t[keptFrames-1])
}

func TestAxesEndAtRoundNumbers(t *testing.T) {
	for _, c := range []struct {
		most float64
		rows int
		want float64
	}{{48, 11, 55}, {8.01, 11, 8.8}, {0, 10, 1e-3}, {1, 10, 1}} {
		assert.InDelta(t, c.want, roundTop([][]float64{{0, c.most}}, c.rows), 1e-9)
	}
}

func TestTheEndOfARunIsRecognised(t *testing.T) {
	assert.True(t, endOf(event(t, api.EventRun, api.RunSummary{ID: "01A", State: "done"}), "01A"))
	assert.False(t, endOf(event(t, api.EventRun, api.RunSummary{ID: "01A", State: "live"}), "01A"))
	assert.False(t, endOf(event(t, api.EventRun, api.RunSummary{ID: "01B", State: "done"}), "01A"))
	assert.False(t, endOf(event(t, api.EventRun, api.RunSummary{ID: "01A", State: "done"}), ""))
}

func TestExitCodesOfOutcomes(t *testing.T) {
	for outcome, want := range map[string]error{"pass": nil, "": nil, "marginal": nil, "fail": exitCode(3),
		"aborted": exitCode(4), "undetermined": exitCode(5)} {
		assert.Equal(t, want, codeOf(outcome, false), outcome)
	}
	assert.Equal(t, exitCode(3), codeOf("marginal", true))
}
