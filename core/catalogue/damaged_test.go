package catalogue_test

import (
	"encoding/json"
	"fmt"
	"maps"
	"math"
	"math/rand/v2"
	"os"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"usherbench/core/catalogue"
	"usherbench/core/figure"
	"usherbench/core/figure/amplifier"
	"usherbench/core/figure/backup"
	"usherbench/core/figure/charger"
	"usherbench/core/figure/device"
	"usherbench/core/figure/drain"
	"usherbench/core/figure/machine"
	"usherbench/core/figure/mains"
	"usherbench/core/quantity"
	"usherbench/core/record"
	"usherbench/core/trace"
	"usherbench/core/uncertainty"
	"usherbench/core/waveform"
	"usherbench/core/wiring"
)

// table is a record as its columns, so that a test can damage it.
type table struct {
	t       []float64
	columns map[string][]float64
}

func (x *table) add(t float64, values map[string]float64) {
	x.t = append(x.t, t)
	for column, v := range values {
		x.columns[column] = append(x.columns[column], v)
	}
}

// keep leaves the frames that are to be kept.
func (x *table) keep(is func(k int) bool) {
	var at []int
	for k := range x.t {
		if is(k) {
			at = append(at, k)
		}
	}
	pick := func(from []float64) []float64 {
		to := make([]float64, len(at))
		for i, k := range at {
			to[i] = from[k]
		}
		return to
	}
	x.t = pick(x.t)
	for column, values := range x.columns {
		x.columns[column] = pick(values)
	}
}

// between is the frames from a to b.
func (x *table) between(column string, a, b float64) trace.Series {
	return trace.Series{T: x.t, X: x.columns[column]}.Between(a, b)
}

const interval = 4.0

// usual is the usual interval of the frames in a time, s: frames lost here and there make it longer.
func (x *table) usual(in hole) float64 {
	var lengths []float64
	for k := 1; k < len(x.t); k++ {
		if x.t[k-1] >= in.from && x.t[k] <= in.to {
			lengths = append(lengths, x.t[k]-x.t[k-1])
		}
	}
	if len(lengths) == 0 {
		return interval
	}
	slices.Sort(lengths)
	return math.Max(interval, lengths[len(lengths)/2])
}

// soundRun is three cycles of a pack on a supply and a load, a charge that somebody else makes, a hold without
// load, one in standby on the mains, and the points of a grid: something for every figure.
func soundRun() (*table, *record.Record) {
	x := &table{columns: map[string][]float64{}}
	rec := &record.Record{Series: 7, Ratings: map[string]quantity.Quantity{"cutoff": quantity.Of(20, "V"),
		"rated_capacity": quantity.Of(0.8, "Ah"), "rated_volts": quantity.Of(15, "V"), "nominal_line": quantity.Of(48, "V"),
		"rated_current": quantity.Of(8, "A")},
		Specs: map[string]uncertainty.Spec{"source.volts": {{To: 80, Reading: 3e-4, Offset: 6e-3, Resolution: 1e-3}},
			"source.amps": {{To: 10, Reading: 5e-4, Offset: 1.5e-3, Resolution: 1e-4}},
			"load.volts":  {{To: 150, Reading: 2.5e-4, Offset: 4e-3, Resolution: 1e-4}},
			"load.amps":   {{To: 30, Reading: 5e-4, Offset: 2e-3, Resolution: 1e-4}},
			"meter.watts": {{To: 1, Reading: 1e-3, Offset: 2e-4, Resolution: 1e-5}},
			"meter.volts": {{To: 300, Reading: 1e-3, Offset: 0.1}}, "meter.amps": {{To: 0.02, Reading: 1e-3, Offset: 1e-5}}}}
	t := 0.0
	stage := func(name, kind string, seconds float64, ended string, at func(past float64) (volts, fed, drained float64)) {
		rec.Marks = append(rec.Marks, record.Mark{T: t, Kind: record.MarkCommand})
		from := t
		var charge [2]float64
		for past := 0.0; past < seconds-1e-9; past += interval {
			volts, fed, drained := at(past)
			n := len(x.t)
			if n > 0 {
				h := t + past + 1e-3 - x.t[n-1]
				charge = [2]float64{x.columns["source.energy"][n-1] + volts*fed*h, 0}
			}
			x.add(t+past+1e-3, map[string]float64{"source.volts": volts, "source.amps": fed, "load.volts": volts,
				"load.amps": drained, "source.energy": charge[0], "source.watts": volts * fed, "load.watts": volts * drained,
				"thermo.celsius": warmth(name, past), "contract.offer.o1": fivePointZero})
			for column, read := range map[string]float64{"sourcemeter.volts": 500, "sourcemeter.amps": 110e-9 +
				150e-9*math.Exp(-past/100)} {
				if name != "insulated" && name != "withstand" {
					read = math.NaN()
				}
				x.columns[column] = append(x.columns[column], read)
			}
			for column, read := range meter(past) {
				if name != "standby" {
					read = math.NaN()
				}
				x.columns[column] = append(x.columns[column], read)
			}
		}
		t += seconds
		rec.Stages = append(rec.Stages, record.Span{Name: name, Kind: kind, T0: from, T1: t})
		if ended != "" {
			rec.Marks = append(rec.Marks, record.Mark{T: t, Kind: record.MarkCondition,
				About: record.Ended{Stage: kind, Rules: []string{ended}}})
		}
	}
	for cycle := range 3 {
		amps := 2 - 0.05*float64(cycle)
		stage("fill", "charge", 900, "taper", func(past float64) (float64, float64, float64) {
			return 24 + 4*past/900, amps, 0
		})
		stage("wait", "rest", 40, "", func(float64) (float64, float64, float64) { return 27.5, 0, 0 })
		stage("empty", "discharge", 820, "cutoff", func(past float64) (float64, float64, float64) {
			bend := 1.5 * math.Pow(past/800, 6)
			return 26.5 - 5*past/800 - bend, 0, amps
		})
		stage("recover", "rest", 640, "", func(past float64) (float64, float64, float64) {
			return 21 + 1.5*(1-math.Exp(-past/80)), 0, 0
		})
	}
	stage("somebody else", "watch", 2400, "", func(past float64) (float64, float64, float64) {
		if past < 1200 {
			return 24 + 4*past/1200, 2, 0
		}
		return 28, 2 * math.Exp(-(past-1200)/300), 0
	})
	stage("idle", "hold", 120, "", func(float64) (float64, float64, float64) { return 48, 0.02, 0 })
	stage("standby", "hold", 960, "", func(float64) (float64, float64, float64) { return 48, 0.02, 1 })
	stage("insulated", "hold", 640, "", func(float64) (float64, float64, float64) { return 48, 0.02, 1 })
	for _, name := range []string{"panel", "device"} {
		from := t
		for _, p := range sweptPoints(name) {
			p.T0, p.T1 = t, t+1
			rec.Points, t = append(rec.Points, p), t+1
		}
		rec.Stages = append(rec.Stages, record.Span{Name: name, Kind: "grid", T0: from, T1: t})
	}
	held := len(rec.Points)
	stage("withstand", "withstand", 60, "", func(float64) (float64, float64, float64) { return 48, 0.02, 1 })
	rec.Points = append(rec.Points, record.Point{Index: held, Row: "withstand", T0: t - 50, T1: t,
		Place: map[string]float64{}, Held: map[string]float64{"sourcemeter.volts": 500},
		Averages: map[string]trace.Average{"sourcemeter.volts": {Mean: 500, N: 50},
			"sourcemeter.amps": {Mean: 1.1e-7, N: 50}}})
	stage("warm", "hold", 1200, "", func(float64) (float64, float64, float64) { return 48, 0.02, 1 })
	rec.Marks = append(rec.Marks, record.Mark{T: t, Kind: record.MarkCommand,
		About: record.Commanded{Words: map[string]string{"mains.output": "off"}}})
	rec.Ratings["poles"] = quantity.Quantity{Value: 4}
	for _, p := range machinePoints() {
		p.T0, p.T1 = t+10*float64(p.Index)+5, t+10*float64(p.Index)+6
		rec.Points = append(rec.Points, p)
	}
	for _, place := range [][2]float64{{36, 8}, {48, 8}, {60, 8}, {48, 1}, {48, 2}, {48, 4}, {48, 6}} {
		rec.Points = append(rec.Points, point(place[0], place[1]))
	}
	for i, amps := range []float64{0, 1, 2, 3} {
		p := point(48, amps)
		p.Place["contract.position"] = 1
		for column, x := range map[string]float64{"contract.position": 1, "contract.offer.o1": fivePointZero,
			"contract.volts": 5.1 - 0.035*amps} {
			p.Averages[column] = trace.Average{Mean: x, N: 10}
		}
		rec.Points = append(rec.Points, p)
		if i == 3 {
			p.Row, p.Before, p.Held = "trip", point(48, 2.9).Averages, map[string]float64{"load.amps": 2.9}
			maps.Copy(p.Before, map[string]trace.Average{"contract.position": {Mean: 1, N: 10},
				"contract.offer.o1": {Mean: fivePointZero, N: 10}})
			p.Comeback = &record.Comeback{Class: record.ByItself, Delay: 2, Step: 0.1, Within: 5}
			rec.Points = append(rec.Points, p)
		}
	}
	p := point(34, 1)
	p.Row, p.Before = "starts", point(33.5, 1).Averages
	rec.Points = append(rec.Points, p)
	rec.Captures = []record.Capture{{Stage: "start", Of: 1, T: t}, {Index: 1, Stage: "ripple", Of: 1, T: t},
		{Index: 2, Stage: "tones", Of: 1, T: t}, {Index: 3, Stage: "lighter", Of: 1, T: t}}
	rec.Samples = func(c record.Capture, channel string) (*waveform.Waveform, error) { return captured(c, channel), nil }
	for i, c := range rec.Captures {
		for _, channel := range []string{"output", "input", "current"} {
			rec.Captures[i].Channels = append(rec.Captures[i].Channels, record.ChannelOf(captured(c, channel)))
		}
	}
	rec.Columns = slices.Sorted(maps.Keys(x.columns))
	rec.Trace = func(column string, a, b float64) (trace.Series, error) {
		if whole, order, ok := strings.Cut(column, ".h"); ok && x.columns[whole] != nil {
			return harmonic(x.between(whole, a, b), order), nil
		}
		if _, ok := x.columns[column]; !ok {
			return trace.Series{}, trace.ErrNoData
		}
		return x.between(column, a, b), nil
	}
	for at, state := range map[float64]string{0: "awake", t: "asleep"} {
		rec.Marks = append(rec.Marks, record.Mark{T: at, Kind: record.MarkState, About: record.State{State: state, At: at}})
	}
	rec.Marks = append(rec.Marks, record.Scanned{Seat: "crosspoint", Scan: wiring.Scan{
		Pins: []string{"A1", "B1", "A2", "B2"},
		Nets: []wiring.Net{{"A1", "B1"}, {"A2", "B2"}}, Limits: wiring.Limits{Closed: 10, Open: 1e6}, Range: 1e8,
		Pairs: []wiring.Pair{{A: 0, B: 1, Ohms: 0.1}, {A: 2, B: 3, Ohms: 0.2}, {A: 0, B: 2, Ohms: 48e6}}}}.Mark(t))
	rec.Marks = append(rec.Marks, record.Opening{From: "A1", To: "B1", At: t - 1, Lasted: 4e-3}.Mark(),
		record.Watched{Seconds: 5, Least: 1e-3, Count: 1}.Mark(t))
	return x, rec
}

// warmth is the temperature of a stage.
func warmth(stage string, past float64) float64 {
	if stage == "warm" {
		return 23 + 40*(1-math.Exp(-past/200))
	}
	return 23 + past/1000
}

// machinePoints are rows of a machine: cold, without load, under load, and hot after it was switched off; and the
// response of a drive.
func machinePoints() (points []record.Point) {
	add := func(row string, index int, values map[string]float64) {
		p := record.Point{Row: row, Index: index, Place: map[string]float64{}, Averages: map[string]trace.Average{}}
		for column, x := range values {
			p.Averages[column] = trace.Average{Mean: x, SE: math.Abs(x) * 1e-6, N: 10}
		}
		points = append(points, p)
	}
	add("cold", 0, map[string]float64{"ohmmeter.ohms": 2.0, "thermo.celsius": 22})
	for k := range 5 {
		add("hot", k, map[string]float64{"ohmmeter.ohms": 2.3 + 0.2*math.Exp(-float64(k)/8), "thermo.celsius": 60})
	}
	for _, v := range []float64{10, 15, 20, 24, 28, 48} {
		add("no load", 0, map[string]float64{"meter.volts": v, "meter.amps": v / 100, "meter.watts": 6 + 0.01*v*v})
	}
	for k := range 6 {
		torque := 1 + 2*float64(k)
		speed := 25 * (1 - 0.003*torque)
		amps := 0.5 + 0.3*torque
		add("load", 0, map[string]float64{"meter.volts": 48, "meter.amps": amps, "meter.hertz": 50, "shaft.speed": speed,
			"shaft.torque": torque, "meter.watts": (2*math.Pi*speed*torque + 6 + 23 + 3*amps*amps) * (1 + 0.003*torque) * 1.05})
	}
	for k := range 23 {
		command, play := float64(min(k, 22-k))/20, map[bool]float64{true: 0.01}[k > 11]
		points = append(points, record.Point{Stage: "response", Place: map[string]float64{"drive.percent": command},
			Averages: map[string]trace.Average{"force.newtons": {Mean: 500 * max(command+play-0.1, 0), N: 10},
				"force.volts": {Mean: 2 * command, N: 10}}})
	}
	return points
}

// sweptPoints are those of a panel that a load led there and back, or of a device that was led to where it breaks down.
func sweptPoints(name string) (points []record.Point) {
	add := func(seat, set string, volts, amps float64) {
		points = append(points, record.Point{Stage: name, Place: map[string]float64{seat + "." + set: map[string]float64{
			"volts": volts, "amps": amps}[set]}, Averages: map[string]trace.Average{
			seat + ".volts": {Mean: volts, SE: 1e-4, N: 10}, seat + ".amps": {Mean: amps, SE: math.Abs(amps) * 1e-5, N: 10}}})
	}
	if name == "device" {
		for volts := 100.0; volts <= 1900; volts += 50 {
			add("sourcemeter", "volts", volts, 20e-9*volts/1000+1e-6*math.Exp((volts-1800)/9))
			points[len(points)-1].Place["sourcemeter.amps"] = 1e-4
		}
		return points
	}
	for k := -40; k <= 40; k++ {
		volts := 22 * (1 - math.Pow(1-math.Abs(float64(k))/40, 2))
		add("load", "volts", volts, 1.9-volts/260-1.9*math.Exp((volts-21.9)/1.2))
	}
	return points
}

// fivePointZero is a source object: fixed, 5 V, 3 A.
const fivePointZero = 0x0801912C

// meter is what a meter in the mains reads of a unit in standby.
func meter(past float64) map[string]float64 {
	return map[string]float64{"meter.watts": 0.1448 + 1e-4*math.Sin(past), "meter.volts": 230, "meter.volts.peak": 327,
		"meter.amps": 4.1e-3, "meter.amps.peak": 24.6e-3, "meter.hertz": 50.01, "meter.energy": 0.1448 * past}
}

// harmonic is one of what a meter reads: all is in the first.
func harmonic(whole trace.Series, order string) trace.Series {
	share := 1.0
	if order != "1" {
		share = 1e-3
	}
	h := trace.Series{T: whole.T, X: slices.Clone(whole.X)}
	for k := range h.X {
		h.X[k] *= share
	}
	return h
}

// captured is a start with an overshoot that comes behind its input, or a ripple.
func captured(c record.Capture, channel string) *waveform.Waveform {
	w := &waveform.Waveform{Channel: channel, Unit: "V", T0: -1e-3, Step: 5e-6, Scale: 1e-3, Lowest: -32768,
		Highest: 32767, Codes: make([]int16, 2000), Stated: true, Gain: 0.01, Offset: 0.01}
	if channel == "current" {
		w.Unit = "A"
	}
	if c.Stage == "tones" || c.Stage == "lighter" {
		return twoTones(w, c.Stage, channel)
	}
	for i := range w.Codes {
		t := w.Time(i)
		switch {
		case c.Stage == "ripple":
			w.Codes[i] = int16(math.Round(20 * math.Sin(2*math.Pi*10e3*t)))
		case t < 0:
		case channel == "input" || channel == "current":
			w.Codes[i] = int16(math.Round(20_000 * math.Min(t/1e-4, 1)))
		default:
			w.Codes[i] = int16(math.Round(15_000 * (1 - math.Exp(-t/5e-4)*math.Cos(4e3*t))))
		}
	}
	return w
}

// amplifierRequest asks for a figure of an amplifier.
func amplifierRequest(req figure.Request) figure.Request {
	req.Stage, req.Channel, req.Against = "tones", "output", ""
	switch req.ID {
	case "idle-current":
		req.Stage, req.Channel, req.Quantity = "idle", "", "source.amps"
	case "output-impedance", "damping-factor":
		req.Against, req.Args = "lighter", map[string]float64{"load": 4, "other": 8}
	case "amplifier-efficiency":
		req.Args = map[string]float64{"load": 4}
	case "output-noise", "signal-to-noise":
		req.Args = map[string]float64{"from": 100, "level": 12}
	case "modulation-distortion":
		req.Args = map[string]float64{"first": 500, "second": 7000}
	case "difference-distortion":
		req.Args = map[string]float64{"first": 7000, "second": 7500}
	}
	return req
}

// twoTones are 4 V and 1 V at 500 Hz and 7 kHz, a little more with a lighter load, and a twentieth of it at the input.
func twoTones(w *waveform.Waveform, stage, channel string) *waveform.Waveform {
	w.Codes = make([]int16, 4000)
	size := 4000.0
	if stage == "lighter" {
		size *= 1.02
	}
	if channel == "input" {
		size /= 20
	}
	for i := range w.Codes {
		t := float64(i) * w.Step
		w.Codes[i] = int16(math.Round(size * (math.Sin(2*math.Pi*500*t) + math.Sin(2*math.Pi*7e3*t)/4 +
			2e-3*math.Sin(2*math.Pi*7500*t))))
	}
	return w
}

// point is what was read at a place of a grid.
func point(line, amps float64) record.Point {
	out := 15.01 - 0.35e-3*(line-48) - 5e-3*amps
	in := (out*amps + 1 + 0.1*amps + 0.06*amps*amps) / line
	read := func(x float64) trace.Average { return trace.Average{Mean: x, SD: 1e-4, SE: 5e-5, N: 10} }
	return record.Point{Place: map[string]float64{"source.volts": line, "load.amps": amps},
		Averages: map[string]trace.Average{"source.volts": read(line), "source.amps": read(in), "load.volts": read(out),
			"load.amps": read(amps), "source.watts": read(line * in), "load.watts": read(out * amps),
			"meter.watts": read(line * in)}}
}

// requests ask for every figure, and for those of stages that are named alike.
func requests() (all []figure.Request) {
	for _, id := range catalogue.Figures().IDs() {
		req := figure.Request{ID: id, Row: "starts", Against: "starts", Quantity: "source.volts",
			Of: []string{"source.amps", "load.amps"}, Args: map[string]float64{}}
		switch id {
		case "crossing-time", "crossing-charge":
			req.Args["level"] = 22
		case "pulse-resistance":
			req.Args["delay"], req.Args["before"] = 12, 20
		case "termination":
			req.Stage = "empty"
		case "recovery-time":
			req.Args["band"] = 1
		case "charge":
			req.Quantity = "source.amps"
		case "energy":
			req.Quantity = "source.watts"
		}
		switch {
		case strings.HasPrefix(id, "ripple-") || id == "dominant-frequency":
			req.Stage, req.Channel, req.Against = "ripple", "output", ""
		case id == "captured-charge":
			req.Stage, req.Channel = "start", "current"
		case slices.ContainsFunc(amplifier.Figures, func(d figure.Definition) bool { return d.ID == id }):
			req = amplifierRequest(req)
		case catalogue.Figures()[id].Needs == figure.Capture:
			req.Stage, req.Channel, req.Since = "start", "output", "input"
		case slices.ContainsFunc(machine.Figures, func(d figure.Definition) bool { return d.ID == id }):
			req = machineRequest(req)
		case strings.HasPrefix(id, "pv-"):
			req.Stage, req.Against = "panel", ""
		case slices.ContainsFunc(device.Figures, func(d figure.Definition) bool { return d.ID == id }):
			req.Stage, req.Args = "device", map[string]float64{"current": 1e-6, "voltage": 1000}
			switch catalogue.Figures()[id].Needs {
			case figure.Window:
				req.Stage, req.Args = "insulated", nil
			case figure.Row:
				req.Stage, req.Row, req.Args, req.Quantity, req.Against = "", "withstand", nil, "", ""
			}
		case slices.ContainsFunc(mains.Figures, func(d figure.Definition) bool { return d.ID == id }):
			req.Stage = "standby"
			req.Args = map[string]float64{"across": 2e6, "through": 0.5, "nominal-volts": 230, "nominal-hertz": 50, "step": 0.36,
				"period": 300}
		case slices.ContainsFunc(charger.Contracted, func(d figure.Definition) bool { return d.ID == id }):
			req.Row, req.At = "trip", map[string]float64{"contract.position": 1}
		case slices.ContainsFunc(backup.Figures, func(d figure.Definition) bool { return d.ID == id }):
			req.Stage, req.Output = "standby", "load"
			if strings.HasPrefix(id, "input-output-") {
				req.Input, req.Output = "load", "source"
			}
			req.Args = map[string]float64{"from": 10, "to": 60, "over": 400, "request": 48, "band": 5, "nominal": 230, "low": 40}
		case slices.ContainsFunc(drain.Figures, func(d figure.Definition) bool { return d.ID == id }):
			req.State, req.Stage, req.Args = "awake", "idle", map[string]float64{"capacity": 4320, "share": 0.5}
		case catalogue.Figures()[id].Needs == figure.Window:
			req.Stage = "idle"
		}
		all = append(all, req)
	}
	return append(all, figure.Request{ID: "charge-returned", Stage: "fill", Pass: 1},
		figure.Request{ID: "coulombic-efficiency", Pass: 1, Choices: map[string]string{"pair": "discharge first"}})
}

// machineRequest asks for a figure of a machine.
func machineRequest(req figure.Request) figure.Request {
	req.Against, req.Quantity = "", ""
	req.Rows = map[string]string{"cold": "cold", "no load": "no load", "hot": "hot"}
	req.Row, req.Args = "load", nil
	switch id := req.ID; {
	case id == "winding-resistance":
		req.Row = "cold"
	case id == "hot-resistance" || id == "temperature-rise":
		req.Row = "hot"
	case id == "constant-loss" || id == "friction-windage-loss" || id == "iron-loss":
		req.Row = "no load"
	case strings.HasPrefix(id, "linear-range"):
		req.Stage, req.Quantity, req.Over = "response", "force.newtons", "drive.percent"
		req.Args = map[string]float64{"within": 1}
	case id == "dead-zone" || id == "response-hysteresis" || id == "response-yield":
		req.Stage, req.Quantity, req.Over = "response", "force.newtons", "drive.percent"
		switch id {
		case "dead-zone":
			req.Args = map[string]float64{"within": 1}
		case "response-yield":
			req.Over = "force.volts"
		}
	case id == "sensor-zero":
		req.Stage, req.Quantity = "idle", "source.volts"
	case strings.HasPrefix(id, "sensor-"):
		req.Row, req.Rows = "cold", map[string]string{"high": "hot"}
		req.Quantity, req.Over, req.Args = "ohmmeter.ohms", "force.newtons", map[string]float64{"high": 20}
	case req.ID == "thermal-settle-time":
		req.Stage, req.Args = "warm", map[string]float64{"window": 300}
	case catalogue.Figures()[id].Needs == figure.Window:
		req.Stage, req.Args = "warm", map[string]float64{"step": 200}
	}
	return req
}

func TestTheRunOfTheseTestsHasSomethingForEveryFigure(t *testing.T) {
	_, rec := soundRun()
	without := map[string]bool{"knee": true, "capacity-knee": true, "cycle-life": true, "lockout-hysteresis": true,
		"step-down-capacity": true, "capacity-gain": true, "incremental-capacity": true, "share": true,
		"share-imbalance": true, "no-load-power": true, "cross-regulation": true, "dropout": true, "dropout-input": true,
		"ramp-slope": true, "backup-time": true, "amplifier-efficiency": true}
	for _, req := range requests() {
		r := catalogue.Figures().Compute(rec, req)
		if !without[req.ID] {
			assert.Nil(t, r.Undetermined, "%s: %v", req.ID, r.Undetermined)
		}
	}
}

// hole is a time in which frames are missing.
type hole struct{ from, to float64 }

// damage does one thing to a record, and tells the hole that it makes, if it makes one.
func damage(rng *rand.Rand, x *table, rec *record.Record) hole {
	end := x.t[len(x.t)-1]
	at := func() float64 { return end * rng.Float64() }
	column := rec.Columns[rng.IntN(len(rec.Columns))]
	switch rng.IntN(12) {
	case 0, 1, 2: // frames lost in a row
		a := at()
		b := a + []float64{3, 8, 30, 200, 1500}[rng.IntN(5)]
		x.keep(func(k int) bool { return x.t[k] < a || x.t[k] > b })
		return hole{a, b}
	case 3: // frames lost here and there
		lost := rng.Float64()
		x.keep(func(int) bool { return rng.Float64() > lost*lost })
	case 4: // readings lost in a row
		a := at()
		b := a + []float64{8, 100, 5000}[rng.IntN(3)]
		for k, t := range x.t {
			if t >= a && t <= b {
				x.columns[column][k] = math.NaN()
			}
		}
	case 5: // a column that was never there
		delete(x.columns, column)
		rec.Columns = slices.DeleteFunc(slices.Clone(rec.Columns), func(c string) bool { return c == column })
	case 6: // the wires the wrong way round
		for k := range x.columns[column] {
			x.columns[column][k] *= -1
		}
	case 7: // an end that was cut off
		a := at()
		x.keep(func(k int) bool { return x.t[k] <= a })
	case 8: // a start that was
		a := at()
		x.keep(func(k int) bool { return x.t[k] >= a })
	case 9: // frames and marks twice
		k := rng.IntN(len(x.t))
		x.t = slices.Insert(x.t, k, x.t[k])
		for c, values := range x.columns {
			x.columns[c] = slices.Insert(values, k, values[k])
		}
		m := rng.IntN(len(rec.Marks))
		rec.Marks = slices.Insert(slices.Clone(rec.Marks), m, rec.Marks[m])
	case 10: // nothing but zeros
		clear(x.columns[column])
	case 11: // a point that misses something
		p := &rec.Points[rng.IntN(len(rec.Points))]
		for c, a := range p.Averages {
			switch rng.IntN(5) {
			case 0:
				delete(p.Averages, c)
			case 1:
				p.Averages[c] = trace.Average{Mean: math.NaN(), N: rng.IntN(4)}
			case 2:
				p.Averages[c] = trace.Average{Mean: -a.Mean, N: a.N, SE: a.SE}
			case 3:
				p.Averages[c] = trace.Average{N: a.N}
			}
		}
	}
	return hole{}
}

// campaign makes the test take its whole length: 2000 records.
const campaign = "USHER_CAMPAIGN"

// Hundreds of damaged records: no figure of them panics, says a number that is none, or says one without how
// well it is known; and none has a value of a window in which more is missing than a gap.
func TestFiguresOfDamagedRecordsAreTrueOrNone(t *testing.T) {
	records := 150
	if os.Getenv(campaign) != "" {
		records = 2000
	}
	rng := rand.New(rand.NewPCG(2026, 11))
	figures := catalogue.Figures()
	values, none := 0, 0
	for n := range records {
		x, rec := soundRun()
		var holes []hole
		for range 1 + rng.IntN(3) {
			if len(x.t) < 2 || len(rec.Columns) == 0 {
				break
			}
			if h := damage(rng, x, rec); h.to > 0 {
				holes = append(holes, h)
			}
		}
		for _, req := range requests() {
			r := figures.Compute(rec, req)
			what := fmt.Sprintf("record %d, %s", n, req.ID)
			_, err := json.Marshal(r)
			require.NoError(t, err, what)
			if r.Undetermined != nil {
				none++
				require.NotContains(t, r.Undetermined.Sentence, "could not be computed", what)
				require.NotContains(t, r.Undetermined.Error()+r.Undetermined.Known, "NaN", what)
				continue
			}
			values++
			known := r.U > 0 || figures[req.ID].Exact != "" || slices.Contains(r.Remarks, figure.NotStated) ||
				r.Value == 0 && slices.Contains(r.Remarks, figure.TrueZero)
			require.True(t, known, "%s: %g without U or remark %v", what, r.Value, r.Remarks)
			for _, w := range windows(rec, req) {
				for _, h := range holes {
					from, to := math.Max(h.from, w.from), math.Min(h.to, w.to)
					require.False(t, to-from > 5*x.usual(w) && to-from > 10.1,
						"%s has a value, %g, though %.0f s of %.0f to %.0f s are missing", what, r.Value, to-from, w.from, w.to)
				}
			}
		}
	}
	t.Logf("%d values, %d undetermined", values, none)
	assert.Greater(t, values, records*5, "most figures of most records are there")
}

// windows are those that a figure of half-cycles takes.
func windows(rec *record.Record, req figure.Request) (all []hole) {
	whole := func(kind string, pass int) {
		halves := rec.Halves(kind, "")
		if len(halves) == 0 {
			return
		}
		h := halves[len(halves)-1]
		if pass > 0 {
			h = halves[pass-1]
		}
		all = append(all, hole{h.From, h.To})
	}
	switch {
	case req.ID == "charge-returned" || req.ID == "energy-returned":
		whole("charge", req.Pass)
	case (req.ID == "coulombic-efficiency" || req.ID == "energy-efficiency") && req.Choices == nil:
		whole("charge", 0)
		whole("discharge", 0)
	case req.ID == "c-rate":
		whole("discharge", 0)
	case slices.Contains([]string{"capacity", "discharge-energy", "mean-discharge-voltage", "state-of-health"}, req.ID):
		whole("discharge", 0)
		if len(all) > 0 {
			all[0].to -= 45 // it is past the cutoff by then
		}
	case req.ID == "no-load-power", slices.Contains([]string{"mean", "rms", "charge", "energy", "slope"}, req.ID):
		if s, err := rec.Span("idle", 0); err == nil {
			all = append(all, hole{s.T0, s.T1})
		}
	case slices.Contains([]string{"standby-power", "accumulated-power", "burden-corrected-power"}, req.ID):
		if s, err := rec.Span("standby", 0); err == nil {
			all = append(all, hole{s.T0 + (s.T1-s.T0)/3, s.T1})
		}
	}
	return all
}
