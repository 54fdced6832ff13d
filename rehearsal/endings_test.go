package rehearsal_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"usherbench/core/catalogue"
	"usherbench/core/nameplate"
	"usherbench/core/stage"
	"usherbench/rehearsal"
	"usherbench/simbench/plant"
	"usherbench/simbench/plant/battery"
)

// happening is a unit to which something happens at a time.
type happening struct {
	plant.Unit
	at   float64
	then func(plant.Operating, plant.Joined) plant.Operating
}

func (h happening) At(t float64, joined plant.Joined) plant.Operating {
	o := h.Unit.At(t, joined)
	if t >= h.at {
		return h.then(o, joined)
	}
	return o
}

// pulledOff is a unit that is no longer there: whatever feeds shows its own volts and gives nothing.
func pulledOff(o plant.Operating, joined plant.Joined) plant.Operating {
	gone := plant.Operating{Celsius: o.Celsius}
	if joined.Line.On {
		gone.Line.Volts, gone.Output.Volts = joined.Line.Volts, joined.Line.Volts
	}
	return gone
}

// The ways in which a charge or discharge ends, over the plant: by its own rules, and by what goes wrong.
func TestEveryWayInWhichAChargeOrDischargeEnds(t *testing.T) {
	packs := map[string]string{
		"NMC": "nameplate: pack\nkind: battery\nchemistry: NMC\ncells: {series: 7, parallel: 2}\nratings: " +
			"{rated_capacity: 9.6 Ah, charge_volts: 29.2 V}\n",
		"NiMH": "nameplate: pack\nkind: battery\nchemistry: NiMH\ncells: {series: 10}\nratings: {rated_capacity: 2 " +
			"Ah, charge_volts: 18 V}\n",
		"lead-acid": "nameplate: pack\nkind: battery\nchemistry: lead-acid\ncells: {series: 6}\nratings: {rated_capacity: " +
			"7 Ah}\n",
		"LFP": "nameplate: pack\nkind: battery\nchemistry: LFP\ncells: {series: 4}\nratings: {rated_capacity: 20 Ah}\n",
	}
	for _, c := range []struct {
		name, chemistry, drive string
		state                  float64
		fault                  plant.Fault
		happens                *happening
		ending                 stage.Ending
		words                  string // of the mark of its end, or of the reason
	}{
		{"a charge of lithium cells tapers off", "NMC", "charge: {amps: 0.5 C, taper: 0.05 C}", 0.6, "", nil, stage.Done,
			"charge ended by taper"},
		{"so it does when the procedure says nothing", "NMC", "charge: {}", 0.6, "", nil, stage.Done,
			"charge ended by taper"},
		{"and of lead-acid cells", "lead-acid", "charge: {amps: 0.2 C, taper: 0.02 C}", 0.4, "", nil, stage.Done,
			"charge ended by taper"},
		{"and of iron phosphate cells", "LFP", "charge: {}", 0.5, "", nil, stage.Done, "charge ended by taper"},
		{"a charge of nickel cells ends when the voltage falls", "NiMH", "charge: {amps: 0.5 C, volts drop: 50 mV}", 0.7, "",
			nil, stage.Done, "charge ended by volts drop"},
		{"or when it grows warm quickly", "NiMH", "charge: {amps: 0.5 C, celsius rate: 0.5 K/min}", 0.7, "", nil, stage.Done,
			"charge ended by celsius rate"},
		{"or when it has grown warm", "NiMH", "charge: {amps: 0.5 C, celsius rise: 6 K}", 0.7, "", nil, stage.Done,
			"charge ended by celsius rise"},
		{"the nameplate knows that of nickel cells", "NiMH", "charge: {}", 0.7, "", nil, stage.Done,
			"charge ended by volts drop|charge ended by celsius rate"},
		{"a charge ends by time", "NMC", "charge: {amps: 0.1 C, time: 20 min}", 0.3, "", nil, stage.Done,
			"charge ended by time"},
		{"by charge", "NMC", "charge: {amps: 0.5 C, charge: 1 Ah}", 0.3, "", nil, stage.Done, "charge ended by charge"},
		{"by energy", "NMC", "charge: {amps: 0.5 C, energy: 20 Wh}", 0.3, "", nil, stage.Done, "charge ended by energy"},
		{"by voltage", "NMC", "charge: {amps: 0.5 C, voltage: 28 V}", 0.3, "", nil, stage.Done, "charge ended by voltage"},
		{"a discharge ends at the cutoff", "NMC", "discharge: {amps: 1 C}", 0.3, "", nil, stage.Done,
			"discharge ended by cutoff"},
		{"at constant power too", "NMC", "discharge: {on: load, watts: 100 W}", 0.3, "", nil, stage.Done,
			"discharge ended by cutoff"},
		{"and at constant resistance", "NMC", "discharge: {on: load, ohms: 5 Ω}", 0.3, "", nil, stage.Done,
			"discharge ended by cutoff"},
		{"it steps down to the least current", "NMC", "discharge: {amps: 1 C, step down: {factor: 2, least: 0.25 C}}", 0.3,
			"", nil, stage.Done, "cutoff, step 2"},
		{"a collapsing cell is stopped at the cutoff all the same", "NMC", "discharge: {amps: 0.5 C}", 0.5,
			battery.Collapsing,
			nil, stage.Done, "discharge ended by cutoff"},
		{"no limit if the time is zero", "NMC", "discharge: {amps: 1 C, time: 0 s}", 0.3, "", nil, stage.Done,
			"discharge ended by cutoff"},
		{"an empty pack is pre-charged first", "NMC", "charge: {amps: 0.5 C, taper: 0.1 C, precharge: {below: 23 V}}", 0.01,
			"", nil, stage.Done, "pre-charged to 23 V"},
		{"one that does not come up is given up", "NMC",
			"charge: {amps: 0.5 C, taper: 0.1 C, precharge: {below: 25 V, time: 5 min}}", 0.01, "", nil, stage.Failure,
			"did not come up to 25 V within 300 s"},
		{"over-temperature trips", "NMC", "discharge: {amps: 1 C}", 0.9, battery.HotPack, nil, stage.Aborted, "too hot"},
		{"a charge that warms trips at its own window", "NMC", "charge: {amps: 0.5 C, taper: 0.05 C}", 0.3, battery.HotPack,
			nil, stage.Aborted, "too hot to charge"},
		{"an open sense lead reads nothing, which is below the safe volts", "NMC", "charge: {amps: 0.5 C, taper: 0.05 C}",
			0.5, "", &happening{at: 600, then: func(o plant.Operating, _ plant.Joined) plant.Operating {
				o.Line.Volts, o.Output.Volts = 0.01, 0.01
				return o
			}}, stage.Aborted, "below the safe volts"},
		{"reversed leads", "NMC", "discharge: {amps: 0.5 C}", 0.5, battery.ReversedLeads, nil, stage.Aborted,
			"below the safe volts"},
		{"the pack is pulled off in a charge: a lost contact trips, it is no taper", "NMC",
			"charge: {amps: 0.5 C, taper: 0.05 C}", 0.5, "", &happening{at: 600, then: pulledOff}, stage.Aborted,
			"contact was lost"},
		{"the pack is pulled off in a discharge", "NMC", "discharge: {amps: 0.5 C}", 0.5, "",
			&happening{at: 600, then: pulledOff}, stage.Aborted, "below the safe volts"},
		{"overcharged by a supply that runs away", "NMC", "charge: {amps: 0.5 C, taper: 0.05 C}", 0.5, "",
			&happening{at: 600, then: func(o plant.Operating, _ plant.Joined) plant.Operating {
				o.Line.Volts, o.Output.Volts = 30.5, 30.5
				return o
			}}, stage.Aborted, "above the safe volts"},
	} {
		t.Run(c.name, func(t *testing.T) {
			plate, err := nameplate.Parse([]byte(packs[c.chemistry]))
			require.NoError(t, err)
			text := fmt.Sprintf("procedure: endings\nfor: pack\nneeds: {cycler: {volts: 40 V, amps: 30 A}, load: {volts: 40 "+
				"V, amps: 30 A, modes: [power, resistance]}, thermo: {}}\n"+
				"stages:\n  - name: drive\n    %s\n  - name: rest\n    rest: {for: 1 min}\nfigures:\n  - {figure: termination, "+
				"stage: drive}\n", c.drive)
			program, err := catalogue.Parse([]byte(text), plate, nil, nil)
			require.NoError(t, err)
			o := rehearsal.Options{State: c.state, Fault: string(c.fault)}
			if c.happens != nil {
				model, err := rehearsal.Model(plate)
				require.NoError(t, err)
				h := *c.happens
				h.Unit, err = model.New("", c.fault, c.state)
				require.NoError(t, err)
				o.Unit = h
			}
			r, err := rehearsal.Run(t.Context(), program, plate, o)
			require.NoError(t, err)
			assert.Equal(t, c.ending, r.Ending, r.Reason)
			var labels []string
			for _, m := range r.Marks {
				labels = append(labels, m.Label)
			}
			all := strings.Join(labels, "\n") + r.Reason
			found := false
			for _, words := range strings.Split(c.words, "|") {
				found = found || strings.Contains(all, words)
			}
			assert.True(t, found, "%q is not among:\n%s", c.words, all)
			if c.ending == stage.Done && strings.HasPrefix(c.words, "charge ended by") {
				require.Nil(t, r.Figures[0].Undetermined)
				assert.Contains(t, c.words, r.Figures[0].Text, "the figure says it too")
			}
		})
	}
}

// The capacity of a rehearsal is that of the plant, for a cutoff that falls between two frames; of a collapsing
// cell too.
func TestARehearsedCapacityIsThatOfThePlant(t *testing.T) {
	plate := plates(t)["gannet"]
	program, err := catalogue.Parse([]byte("procedure: down\nfor: gannet\nneeds: {cycler: {volts: 29.4 V, amps: 9.6 "+
		"A}, thermo: {}}\nstages:\n  - name: empty\n    discharge: {amps: 0.5 C, cutoff: 21.037 V}\nfigures:\n  - "+
		"{figure: capacity, cutoff: 21.037 V}\n"), plate, nil, nil)
	require.NoError(t, err)
	for _, fault := range []plant.Fault{plant.Healthy, battery.Collapsing} {
		pack, err := battery.Gannet("GP-401", fault)
		require.NoError(t, err)
		_, truth := pack.ToCutoff(battery.NewUnit(pack, 0.9).State, 4.8, 21.037)
		r, err := rehearsal.Run(t.Context(), program, plate, rehearsal.Options{Serial: "GP-401", Fault: string(fault),
			State: 0.9})
		require.NoError(t, err)
		require.Nil(t, r.Figures[0].Undetermined)
		assert.InEpsilon(t, truth/3600, r.Figures[0].Value, 0.0002, "%q", fault)
	}
}
