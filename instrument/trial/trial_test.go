package trial_test

import (
	"fmt"
	"slices"
	"strings"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"usherbench/instrument"
	"usherbench/instrument/dialect"
	"usherbench/instrument/trial"
	"usherbench/simbench"
)

// try tries a text on a stand-in, and gives what was wrong as a person reads it.
func try(t *testing.T, b *simbench.Bench, name, text string, o trial.Options) (wrong []string, all []trial.Step) {
	t.Helper()
	library, err := dialect.Load("")
	require.NoError(t, err)
	d, err := library.Read(dialect.Source{File: "mine.yaml", Text: text})
	require.NoError(t, err)
	for _, i := range b.Instruments() {
		if i.Name != name {
			continue
		}
		opened, err := instrument.Open(name, i.Address, d)
		require.NoError(t, err)
		defer opened.Close()
		all = trial.Run(t.Context(), opened, o)
	}
	require.NotEmpty(t, all)
	for _, s := range all {
		if s.Verdict == trial.Wrong {
			wrong = append(wrong, fmt.Sprintf("%s %s: %s; %s", s.Place, s.Name, s.What, s.Remedy))
		}
	}
	return wrong, all
}

// simulated runs a test in simulated time: how long an answer may take is what is tried here.
func simulated(t *testing.T, test func(t *testing.T)) {
	_, err := dialect.Load("") // which belongs to no bubble
	require.NoError(t, err)
	synctest.Test(t, test)
}

// benches counts the benches in memory, whose names must differ.
var benches atomic.Int64

func bench(t *testing.T) *simbench.Bench {
	b, err := simbench.Start(simbench.Options{Layouts: []simbench.Layout{simbench.Converter, simbench.BatteryPack,
		simbench.SerialLoad, simbench.Metered}, Memory: fmt.Sprintf("trial%d-", benches.Add(1))})
	require.NoError(t, err)
	t.Cleanup(func() { b.Close() })
	return b
}

func TestShippedDialectsAreRightInEverything(t *testing.T) {
	simulated(t, shippedDialectsAreRightInEverything)
}

func shippedDialectsAreRightInEverything(t *testing.T) {
	b := bench(t)
	library, err := dialect.Load("")
	require.NoError(t, err)
	for _, i := range b.Instruments() {
		d := library["sim-"+i.Kind]
		wrong, all := try(t, b, i.Name, "dialect: mine\nfrom: "+d.Name+"\n", trial.Options{Energise: true})
		assert.Empty(t, wrong, i.Name)
		for _, s := range all {
			assert.NotEmpty(t, s.Place, "%s %s", i.Name, s.Name)
		}
	}
	for _, bay := range []string{"bay1", "bay2", "bay3"} {
		state, err := b.State(bay)
		require.NoError(t, err)
		assert.False(t, state.SourceOn || state.LoadOn, "%s is left off", bay)
	}
}

const sound = `dialect: mine
identity: "^Usher Bench,SIM-L1,"
seats: [load]
answers within: 200 ms
errors: {query: "SYST:ERR?", none: "0,"}
set:
  amps: {message: "CURR {value}", ask: "CURR?"}
  mode: {current: "FUNC CURR"}
  output: {"on": "INP ON", "off": "INP OFF"}
read:
  - {message: "MEAS:VOLT?", gives: [volts]}
  - {message: "MEAS:CURR?", gives: [amps]}
confirm: {message: "INP?", "on": "1", "off": "0"}
ranges: {set: {amps: [{to: 30 A}]}}
`

func TestEachMistakeIsFoundAtItsLineWithWhatToWriteInstead(t *testing.T) { simulated(t, eachMistake) }

func eachMistake(t *testing.T) {
	b := bench(t)
	wrong, _ := try(t, b, "load1", sound, trial.Options{})
	require.Empty(t, wrong, "the dialect without a mistake")
	for name, c := range map[string]struct{ old, new, want string }{
		"identity": {`SIM-L1,"`, `SIM-L7,"`,
			`mine.yaml:2:11 identity: it says "Usher Bench,SIM-L1,L1-0201,1.0", which ^Usher Bench,SIM-L7, does not match; ` +
				`write "^Usher Bench,SIM-L1,"`},
		"a wrong query":   {`"MEAS:CURR?"`, `"MEAS:AMPS?"`, `mine.yaml:12:15 as load: read amps: `},
		"what to write":   {`"MEAS:CURR?"`, `"MEAS:AMPS?"`, `write message: "MEAS:CURR?", which the instrument answers`},
		"a wrong setting": {`message: "CURR {value}"`, `message: "CURRENTS {value}"`, `mine.yaml:7:19 as load: set amps: `},
		"its header": {`message: "CURR {value}"`, `message: "CURRENTS {value}"`,
			`write "CURR {value}", whose question the instrument answers`},
		"a wrong unit": {`message: "CURR {value}", ask`, `message: "CURR {value}", unit: mA, ask`,
			`the instrument refused`},
		"no error": {`none: "0,"`, `none: "+0,"`,
			`the queue never becomes empty: it says "0,\"No error\"" again and again, which does not begin with "+0,"; if ` +
				`this means that there is no error, write none: "0,"`},
		"the wrong way": {`"on": "1", "off": "0"`, `"on": "0", "off": "1"`,
			`on and off are written the wrong way round: swap them`},
		"other answers": {`"on": "1", "off": "0"`, `"on": "ON", "off": "OFF"`,
			`write what "0" means in place of "ON" or "OFF"`},
		"two in one": {`"MEAS:VOLT?", gives: [volts]`, `"MEAS:VOLT?", gives: [volts, celsius]`,
			`let gives, separator, pattern or block describe it`},
	} {
		require.Contains(t, sound, c.old, name)
		wrong, _ := try(t, b, "load1", strings.Replace(sound, c.old, c.new, 1), trial.Options{})
		assert.Contains(t, strings.Join(wrong, "\n"), c.want, name)
	}
}

func TestRegistersThatDoNotExistAreNamed(t *testing.T) { simulated(t, registersThatDoNotExistAreNamed) }

func registersThatDoNotExistAreNamed(t *testing.T) {
	b := bench(t)
	text := "dialect: mine\nfrom: sim-register-load\nset:\n  amps: {register: 40003, unit: mA}\n  volts: {register: 3, " +
		"unit: V}\nread:\n  volts: {input: 30001, as: int16, unit: mV}\n"
	wrong, _ := try(t, b, "register-load3", text, trial.Options{})
	all := strings.Join(wrong, "\n")
	assert.Contains(t, all, "mine.yaml:4:9 as load: set amps: ")
	assert.Contains(t, all,
		"exception 2: illegal register address; the register does not exist: many manuals count from 1")
	assert.Contains(t, all, "mine.yaml:7:3 as load: read volts")
}

func TestATrialOfNothingEndsSoon(t *testing.T) {
	library, err := dialect.Load("")
	require.NoError(t, err)
	d, err := library.Read(dialect.Source{File: "mine.yaml", Text: sound})
	require.NoError(t, err)
	i, err := instrument.Open("x", "tcp://127.0.0.1:1", d)
	require.NoError(t, err)
	defer i.Close()
	began := time.Now()
	steps := trial.Run(t.Context(), i, trial.Options{})
	require.Len(t, steps, 1, "nothing more is tried when nobody answers")
	assert.Contains(t, steps[0].What, "connection refused")
	assert.Less(t, time.Since(began), 10*time.Second)
}

// Channels that are told apart on paper only are found out when one is switched on.
func TestEachChannelMustAnswerForItself(t *testing.T) { simulated(t, eachChannelMustAnswerForItself) }

func eachChannelMustAnswerForItself(t *testing.T) {
	b := bench(t)
	const supply = "dialect: mine\nfrom: sim-supply\n"
	wrong, all := try(t, b, "supply1", supply, trial.Options{Energise: true})
	assert.Empty(t, wrong)
	assert.True(t, slices.ContainsFunc(all, func(s trial.Step) bool { return s.Name == "channel 2 as source: output on" }))
	wrong, _ = try(t, b, "supply1", supply+"channel names: [\"1\", \"01\"]\n", trial.Options{Energise: true})
	require.NotEmpty(t, wrong)
	assert.Contains(t, wrong[0], "channel 2 goes on and off with channel 1: the messages do not tell them apart")
	state, err := b.State("bay1")
	require.NoError(t, err)
	assert.False(t, state.SourceOn)
}
