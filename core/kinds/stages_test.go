package kinds_test

import (
	"encoding/json"
	"fmt"
	"math"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"usherbench/core/figure"
	"usherbench/core/figure/rows"
	"usherbench/core/kinds"
	"usherbench/core/procedure"
	"usherbench/core/record"
	"usherbench/core/stage"
	"usherbench/core/trace"
)

// lab is a bench for every stage: a unit of 15 V that starts above 34 V of line and stops below 33 V, and a
// battery of 60 A·s whose volts go from 3 V to 4 V with its charge, on a cycler that holds its voltage limit.
type lab struct {
	set     map[string]float64
	words   map[string]string
	runs    bool
	latched bool    // after more than 4.41 A, until its line is gone
	charge  float64 // A·s
	last    float64
	celsius float64
}

func newLab() *lab {
	return &lab{set: map[string]float64{}, words: map[string]string{}, charge: 30}
}

func (l *lab) apply(settings []procedure.Setting) {
	for _, s := range settings {
		if s.Word != "" {
			l.words[s.Column()] = s.Word
			continue
		}
		l.set[s.Column()] = s.Value
	}
}

func (l *lab) frame(t float64, columns trace.Columns) trace.Frame {
	f := trace.Frame{T: t, Values: make([]float64, len(columns))}
	line, amps, volts := 0.0, 0.0, 0.0
	if l.words["source.output"] == "on" {
		line = l.set["source.volts"]
	}
	l.runs = line > 34 || l.runs && line > 33
	if l.words["load.output"] == "on" && l.runs {
		amps = l.set["load.amps"]
	}
	l.latched = (l.latched || amps > 4.41) && line > 0
	if l.latched {
		amps = 0
	} else if l.runs {
		volts = 15
	}
	dt := t - l.last
	l.last = t
	cell := 3 + l.charge/60
	into := 0.0
	// A source that is on stands for leads that are off.
	if l.words["cycler.output"] == "on" && l.words["source.output"] != "on" {
		into = l.set["cycler.amps"]
		if limit := (l.set["cycler.volts"] - cell) / 0.05; into > 0 && limit < into {
			into = math.Max(limit, 0)
		}
	}
	l.charge += into * dt
	l.celsius += 0.02 * dt * into * into
	values := map[string]float64{"source.volts": line, "source.amps": amps / 3, "load.volts": volts - 0.01*amps,
		"load.amps": amps, "cycler.volts": cell + 0.05*into,
		"cycler.amps": into, "cycler.charge": l.charge - 30, "thermo.celsius": 25 + l.celsius}
	for i, column := range columns {
		f.Values[i] = values[column]
	}
	return f
}

const small = "nameplate: small\nratings: {rated_capacity: 1 Ah, charge_volts: 4 V, cutoff: 3.1 V}\n"

const header = `
procedure: test
for: small
needs:
  source: {volts: 60 V, amps: 5 A}
  load: {volts: 20 V, amps: 10 A}
  cycler: {volts: 20 V, amps: 5 A}
  thermo: {}
  crosspoint: {}
parameters:
  level: {value: 2 A, adjustable: yes}
  wait: {value: 1 s, adjustable: yes}
tables:
  dip.csv: |
    time [s],source.volts [V]
    0,48
    0.2,40
    0.2,48
    0.4,48
  list.csv: |
    load.amps [A]
    1
    2.5
    3
    5
    6
derived: {unit.watts: "source.volts * source.amps"}
stages:
`

func parsed(t require.TestingT, stages string) *procedure.Program {
	p, err := parseWith(stages, nil)
	require.NoError(t, err)
	return p
}

const powered = "  - {name: power, set: {source: {volts: 48 V, amps: 4 A, output: on}, load: {mode: current, amps: " +
	"level, output: on}}}\n"

// everyStage is a program for each kind of stage and of flow.
var everyStage = map[string]string{
	"wiring":       "  - wiring: {nets: [[A1, B1], [A2, B2]]}\n  - hold: {for: 1 s}\n",
	"set and hold": powered + "  - hold: {for: 1 s}\n",
	"set with a wait": powered +
		"  - {set: {load: {amps: 3 A}}, until: load.amps > 2.5 A for 100 ms, within: 1 s}\n",
	"hold until": powered +
		"  - hold: {until: \"elapsed > 700 ms and mean(load.volts, 300 ms) > 14 V\", within: 2 s}\n",
	"hold until stable": powered +
		"  - hold: {stable: {quantity: load.volts, window: 500 ms, band: 1 V/s}, within: 2 s}\n",
	"grid": powered +
		"  - grid: {over: [{set: load.amps, values: [1 A, 2 A], order: both}], settle: {until: \"load.amps > 1 A\", " +
		"within: 200 ms}, average: 100 ms}\n",
	"grid by a list that ends": powered +
		"  - grid: {over: [{set: load.amps, table: list.csv}], settle: 100 ms, average: 100 ms, end when: \"load.volts " +
		"< 5 V for 60 ms\"}\n",
	"play": powered +
		"  - play: {source.volts: [hold 100 ms at 48 V, ramp to 40 V in 200 ms, sine 2 V at 5 Hz for 400 ms, {table: " +
		"dip.csv}], load.amps: [hold 1 s at 1 A], times: 2}\n",
	"rest": powered + "  - rest: {for: 500 ms}\n",
	"seek down": powered +
		"  - {name: stops, seek: {set: source.volts, from: 36 V, to: 30 V, coarse: 1 V, fine: 250 mV, dwell: 100 ms, " +
		"until: \"load.volts < 5 V\", recovers: {when: \"load.volts > 10 V\", within: 1 s}}}\n",
	"seek a latch": powered +
		"  - {name: limit, seek: {set: load.amps, from: 3 A, to: 6 A, coarse: 500 mA, fine: 100 mA, dwell: 100 ms, " +
		"until: \"load.volts < 5 V\", relieve: {set: {load: {amps: 0 A, output: off}}, wait: 300 ms, cycle: source, " +
		"off: 1 s}, recovers: {when: \"load.volts > 10 V\", within: 1 s}}}\n",
	"seek a latch with a person": powered +
		"  - {name: limit, seek: {set: load.amps, from: 3 A, to: 6 A, coarse: 500 mA, fine: 100 mA, dwell: 100 ms, " +
		"until: \"load.volts < 5 V\", relieve: {set: {load: {amps: 0 A, output: off}}, wait: 300 ms, ask: Join the " +
		"cable again}, recovers: {when: \"load.volts > 10 V\", within: 1 s}}}\n",
	"acquire": powered +
		"  - {name: idle, acquire: {quantities: [load.volts, unit.watts], average: 100 ms, times: 3, every: 300 ms}}\n",
	"acquire until": powered +
		"  - {name: warm, acquire: {quantities: [load.volts], average: 100 ms, every: 300 ms, until: elapsed > 1 s, " +
		"within: 5 s}}\n",
	"acquire until stable": powered + "  - {name: warm, acquire: {average: 100 ms, every: 400 ms, stable: {quantity: " +
		"load.volts, window: 900 ms, band: 1 V/s}}, within: 3 s}\n",
	"withstand": "  - {name: stands, withstand: {seat: source, volts: 50 V, rise: 100 V/s, for: 500 ms, leakage: 1 A}}\n",
	"acquire by a person": powered +
		"  - {name: no load, acquire: {quantities: [load.volts], average: 100 ms, times: 2, ask: Set the volts and take}}\n",
	"watch": powered + "  - watch: {until: \"elapsed > 1 s\"}\n",
	"ask": "  - {name: room, ask: {number: what is the room, unit: °C, min: 0 °C, max: 50 °C, " +
		"into: room}, within: 5 s}\n  - {when: answer.room > 20 °C, stages: [{hold: {for: 200 ms}}], otherwise: [{hold: " +
		"{for: 400 ms}}]}\n",
	"ask without an answer": "  - {name: room, ask: {confirm: nobody is there}, within: 500 ms, else: next}\n  - " +
		"hold: {for: 100 ms}\n",
	"signal": "  - signal: {message: take care, sound: on}\n  - hold: {for: 100 ms}\n",
	"repeat": powered +
		"  - {name: twice, repeat: {times: 3, until: elapsed > 1 s}, stages: [{hold: {for: 300 ms}}, {signal: ding}]}\n",
	"repeat over values": "  - {name: levels, repeat: {over: {level: [1 A, 2 A]}}, stages: [{set: {load: {amps: " +
		"level}}}, {hold: {for: 200 ms}}]}\n",
	"nested repeats": "  - {repeat: {times: 2}, stages: [{repeat: {times: 2}, stages: [{hold: {for: 100 ms}}]}]}\n",
	"when": powered +
		"  - hold: {for: 200 ms}\n  - {when: \"rate(load.volts, 100 ms) > 1 V/s\", stages: [{hold: {for: 1 s}}], " +
		"otherwise: [{hold: {for: 200 ms}}]}\n",
	"when by a figure": powered +
		"  - {name: idle, acquire: {average: 100 ms}}\n  - {when: {figure: reading, row: idle, quantity: load.volts, min: " +
		"14 V}, stages: [{hold: {for: 300 ms}}]}\n",
	"charge":    "  - {name: fill, charge: {amps: 10 A / 4, taper: 0.5 C, time: 30 min}, note: to the top}\n",
	"discharge": "  - {name: empty, discharge: {amps: 2 C, cutoff: 3.2 V}}\n",
	"discharge in steps": "  - {name: empty, discharge: {amps: 4 A, cutoff: 3.2 V, step down: {factor: 2, least: 1 " +
		"A}}}\n",
	"charge by temperature": "  - {name: fill, charge: {amps: 2 A, volts: 20 V, celsius rise: 1 K}}\n",
	"tries and goto": powered +
		"  - {name: again, hold: {until: elapsed > 2 s, within: 300 ms}, tries: 2, else: goto again}\n",
	"guards that only warn": powered +
		"  - {hold: {for: 300 ms}, guards: [{when: \"load.amps > 1 A\", do: warn, note: busy}]}\n",
	"guards that look back": powered +
		"  - {hold: {for: 600 ms}, guards: [{when: \"rise(load.volts) > 3 V or delta(load.amps, 100 ms) > 8 A\"}]}\n",
	"a charge with a figure": "  - {charge: {amps: 2 A, charge: 3 mAh}}\n  - {when: stage.charge < 1 Ah, stages: " +
		"[{hold: {for: 100 ms}}]}\n",
}

// outcome is what a run did, as lines that can be compared.
type outcome struct {
	lines  []string
	end    stage.Finish
	marks  []stage.Mark
	points []stage.Point
}

// drive runs a program on the lab. After each event whose number is among kills the machine is made anew from
// its snapshot.
func drive(t require.TestingT, p *procedure.Program, kills map[int]bool,
	meddle func(m *stage.Machine, now float64) stage.Event) outcome {
	m, err := stage.New(p)
	require.NoError(t, err)
	l, now, events := newLab(), 0.0, 0
	var o outcome
	var take func(es []stage.Effect)
	advance := func(e stage.Event) {
		es := m.Advance(e)
		if kills[events] {
			data, err := m.Snapshot()
			require.NoError(t, err)
			require.True(t, json.Valid(data))
			m, err = stage.Restore(p, data)
			require.NoError(t, err)
		}
		events++
		take(es)
	}
	take = func(es []stage.Effect) {
		commanded := false
		var then []stage.Event
		for _, e := range es {
			if point, ok := e.(stage.Point); ok {
				data, err := json.Marshal(point)
				require.NoError(t, err)
				o.lines = append(o.lines, string(data))
				o.points = append(o.points, point)
				continue
			}
			o.lines = append(o.lines, fmt.Sprintf("%T %v", e, e))
			switch e := e.(type) {
			case stage.Command:
				commanded = true
				l.apply(e.Settings)
			case stage.Ask:
				switch {
				case strings.Contains(e.Text, "room"):
					then = append(then, stage.Answered{T: now, By: "ada", Text: "23.5"})
				case e.Form == stage.AskTake:
					said := map[bool]string{true: "take", false: "done"}[e.Take.Taken < 3] // one more than must be
					if e.Take.Taken < e.Take.Least {
						require.ErrorContains(t, m.CheckAnswer("done"), "take the others first")
					}
					require.ErrorContains(t, m.CheckAnswer("yes"), "say take, or done")
					require.NoError(t, m.CheckAnswer(said))
					then = append(then, stage.Answered{T: now, By: "ada", Text: said})
				case strings.Contains(e.Text, "cable"):
					require.NoError(t, m.CheckAnswer("yes"))
					l.latched = false
					then = append(then, stage.Answered{T: now, By: "ada", Text: "yes"})
				}
			case stage.Scan:
				s := stage.Scanned{T: now, Shot: e.Shot, Range: 1e8}
				for _, p := range e.Pairs {
					s.Ohms = append(s.Ohms, map[bool]float64{true: 0.1, false: math.Inf(1)}[p == [2]int{0, 1}])
				}
				then = append(then, s)
			case stage.Need:
				then = append(then, stage.Figured{T: now, Result: e.Compute(&record.Record{Points: figurePoints(o.points)})})
			case stage.Mark:
				o.marks = append(o.marks, e)
			case stage.Finish:
				o.end = e
				return
			}
		}
		if commanded {
			advance(stage.Applied{T: now})
		}
		for _, e := range then {
			advance(e)
		}
	}
	take(m.Start())
	for step := 1; !m.Finished(); step++ {
		require.Less(t, step, 400_000, "the program does not end")
		next := 0.02 * float64(step)
		for due := m.DueAt(); due <= next; due = m.DueAt() {
			now = due
			advance(stage.Due{T: due})
		}
		now = next
		if meddle != nil {
			if e := meddle(m, now); e != nil {
				advance(e)
			}
		}
		f := l.frame(now, p.Columns)
		m.Derive(f)
		advance(stage.Frame{Frame: f})
	}
	return o
}

func figurePoints(points []stage.Point) (ps []record.Point) {
	for _, p := range points {
		ps = append(ps, p.Point)
	}
	return ps
}

func (o outcome) labels(kind record.MarkKind) (labels []string) {
	for _, m := range o.marks {
		if m.Kind == kind {
			labels = append(labels, m.Label)
		}
	}
	return labels
}

// A run that is killed after any event and goes on from its snapshot gives the same effects as one that is left alone.
func TestEveryStageGoesOnAfterAKill(t *testing.T) {
	for name, text := range everyStage {
		t.Run(name, func(t *testing.T) {
			p := parsed(t, text)
			plain := drive(t, p, nil, nil)
			require.Equal(t, stage.Done, plain.end.Ending, plain.end.Reason)
			events := len(plain.lines) + int(plain.end.T/0.02)
			rapid.Check(t, func(rt *rapid.T) {
				kills := map[int]bool{}
				for _, k := range rapid.SliceOfN(rapid.IntRange(0, min(events, 2000)), 1, 4).Draw(rt, "kills") {
					kills[k] = true
				}
				require.Equal(rt, plain.lines, drive(rt, p, kills, nil).lines)
			})
		})
	}
}

func TestStagesDoWhatTheySay(t *testing.T) {
	runs := map[string]outcome{}
	for name, text := range everyStage {
		runs[name] = drive(t, parsed(t, text), nil, nil)
	}
	seek := runs["seek down"].points
	require.Len(t, seek, 1)
	assert.Equal(t, "stops", seek[0].Row)
	assert.InDelta(t, 33, seek[0].Averages["source.volts"].Mean, 1e-9)
	assert.InDelta(t, 33.25, seek[0].Before["source.volts"].Mean, 1e-9)
	assert.Contains(t, seek[0].Recovery, "recovers by itself")

	limit := runs["seek a latch"].points
	require.Len(t, limit, 1)
	assert.InDelta(t, 4.5, limit[0].Place["load.amps"], 1e-9)
	assert.InDelta(t, 4.4, limit[0].Held["load.amps"], 1e-9)
	assert.InDelta(t, 4.4, limit[0].Before["load.amps"].Mean, 1e-9)
	assert.Zero(t, limit[0].Averages["load.amps"].Mean)
	assert.Contains(t, limit[0].Recovery, "recovers only after its input was cycled")
	asked := runs["seek a latch with a person"]
	require.Len(t, asked.points, 1)
	assert.Equal(t, record.InputCycle, asked.points[0].Comeback.Class, "a person has done it")
	assert.InDelta(t, 4.4, asked.points[0].Held["load.amps"], 1e-9, "and the search went on finely")
	assert.Len(t, asked.labels(record.MarkAnswer), 2, "before the fine steps, and at the end")
	level := figureOf(limit, "found-level", "limit", "load.amps")
	assert.InDelta(t, 4.45, level.Value, 1e-9)
	assert.Contains(t, level.Remarks[0], "the unit gave way")

	ended := runs["grid by a list that ends"]
	require.Len(t, ended.points, 4)
	assert.Contains(t, ended.labels(record.MarkCondition), "the grid ended at point 4 of 5: load.volts < 5 V for 60 ms")
	assert.Equal(t, []string{"point 4 of 5: load.amps is 0 A where 5 A is set"}, ended.labels(record.MarkWarning))

	assert.Equal(t, []string{"warm, reading 1", "warm, reading 2", "warm, reading 3", "warm, reading 4"},
		runs["acquire until"].labels(record.MarkPointDone))
	assert.Len(t, runs["acquire until stable"].points, 3)
	stood := runs["withstand"]
	require.Len(t, stood.points, 1)
	assert.False(t, stood.points[0].GaveWay)
	assert.InDelta(t, 50, stood.points[0].Averages["source.volts"].Mean, 1e-9)
	assert.InDelta(t, 0.5, stood.points[0].T1-stood.points[0].T0, 0.03)

	byPerson := runs["acquire by a person"]
	require.Len(t, byPerson.points, 3, "one more than must be, since a person has taken it")
	assert.Equal(t, []string{"no load, reading 1, taken by ada", "no load, reading 2, taken by ada",
		"no load, reading 3, taken by ada"}, byPerson.labels(record.MarkPointDone))
	assert.Equal(t, []string{"ada has taken 3 readings into no load"}, byPerson.labels(record.MarkAnswer))
	assert.Equal(t, "no load", byPerson.points[2].Row)

	idle := runs["acquire"].points
	require.Len(t, idle, 3)
	assert.Len(t, idle[0].Averages, 2)
	assert.InDelta(t, 48*2.0/3, idle[2].Averages["unit.watts"].Mean, 1e-9, "a derived column")
	assert.InDelta(t, 0.3, idle[1].T0-idle[0].T0, 0.03)

	assert.Equal(t, []string{"twice, pass 1 of 3", "twice, pass 2 of 3", "twice, pass 3 of 3"},
		runs["repeat"].labels(record.MarkLoop))
	assert.Len(t, runs["nested repeats"].labels(record.MarkLoop), 6)
	assert.InDelta(t, 0.4, runs["nested repeats"].end.T, 0.15)
	assert.InDelta(t, 0.2, runs["ask"].end.T, 0.1)
	assert.Equal(t, []string{`stage "room": nobody answered within 500 ms`},
		clean(runs["ask without an answer"].labels(record.MarkTimeout)))
	assert.Contains(t, runs["when by a figure"].labels(record.MarkCondition)[0], "reading is 14.98")
	assert.Equal(t, []string{"charge ended by taper"}, runs["charge"].labels(record.MarkCondition))
	assert.Equal(t, []string{"discharge ended by cutoff"}, runs["discharge"].labels(record.MarkCondition))
	assert.Equal(t, []string{"cutoff, step 1", "cutoff, step 2", "discharge ended by cutoff"},
		runs["discharge in steps"].labels(record.MarkCondition))
	assert.Equal(t, []string{"charge ended by celsius rise"}, runs["charge by temperature"].labels(record.MarkCondition))
	assert.Equal(t, []string{"busy (load.amps > 1 A)"}, runs["guards that only warn"].labels(record.MarkWarning))
	assert.Contains(t, runs["play"].labels(record.MarkBench)[0], "paced by the service")
	tries := runs["tries and goto"].labels(record.MarkTry)
	assert.Equal(t, "again, try 2 of 2", tries[0])
	assert.Greater(t, len(tries), 2)
}

func figureOf(points []stage.Point, id, row, quantity string) figure.Result {
	return figure.NewCatalogue(rows.Figures).Compute(&record.Record{Points: figurePoints(points)},
		figure.Request{ID: id, Row: row, Quantity: quantity})
}

func clean(labels []string) []string {
	for i := range labels {
		labels[i] = strings.ReplaceAll(labels[i], "0.5 s", "500 ms")
	}
	return labels
}

func TestAPlayedShapeLiesOnTheShape(t *testing.T) {
	p := parsed(t,
		powered+"  - play: {pace: 10 ms, source.volts: [hold 100 ms at 48 V, ramp to 40 V in 200 ms, step to 44 V for 100 "+
			"ms]}\n")
	play := p.Stages[1].Action.(*kinds.Play)
	var began float64
	compared := 0
	m, err := stage.New(p)
	require.NoError(t, err)
	l := newLab()
	now := 0.0
	take := func(es []stage.Effect) {
		for len(es) > 0 {
			commanded := false
			for _, e := range es {
				if c, ok := e.(stage.Command); ok {
					commanded = true
					l.apply(c.Settings)
				}
				if mark, ok := e.(stage.Mark); ok && mark.Label == "shape begins" {
					began = mark.T
				}
			}
			if !commanded {
				return
			}
			es = m.Advance(stage.Applied{T: now})
		}
	}
	take(m.Start())
	for step := 1; !m.Finished(); step++ {
		now = 0.001 * float64(step)
		if m.DueAt() <= now {
			take(m.Advance(stage.Due{T: now}))
		}
		if m.Stage() == 1 && !m.Finished() {
			assert.InDelta(t, play.Tracks[0].Shape.At(now-began), l.set["source.volts"], 40*0.012+1e-9, "at %v s", now-began)
			compared++
		}
		take(m.Advance(stage.Frame{Frame: l.frame(now, p.Columns)}))
	}
	assert.Greater(t, compared, 390)
	assert.Equal(t, 44.0, l.set["source.volts"])
}
