package api

import (
	"fmt"
	"time"

	"usherbench/core/quantity"
)

// Span is a time, written with its unit: "20 ms".
type Span time.Duration

// MarshalText writes the span with its unit.
func (s Span) MarshalText() ([]byte, error) {
	return []byte(quantity.Quantity{Value: time.Duration(s).Seconds(), Dim: quantity.Time}.String()), nil
}

// UnmarshalText reads a time with its unit.
func (s *Span) UnmarshalText(text []byte) error {
	q, err := quantity.Parse(string(text))
	if err != nil {
		return err
	}
	if q.Dim != quantity.Time {
		return fmt.Errorf("%q is %s, but here belongs a time such as 20 ms", text, q.Dim)
	}
	*s = Span(q.Value * float64(time.Second))
	return nil
}

// InstrumentConfig is where an instrument is and how it is spoken to. Dates are written 2026-03-31.
type InstrumentConfig struct {
	Address    string `mapstructure:"address" yaml:"address" json:"address"`
	Dialect    string `mapstructure:"dialect" yaml:"dialect" json:"dialect"`
	Calibrated string `mapstructure:"calibrated" yaml:"calibrated,omitempty" json:"calibrated,omitempty"`
	Due        string `mapstructure:"due" yaml:"due,omitempty" json:"due,omitempty"`
}

// BayConfig is a place where one unit at a time is tested.
type BayConfig struct {
	Title string                `mapstructure:"title" yaml:"title,omitempty" json:"title,omitempty"`
	Seats map[string]SeatConfig `mapstructure:"seats" yaml:"seats" json:"seats"`
	// Interval between frames, in bench time; 20 ms if not given.
	Interval Span `mapstructure:"interval" yaml:"interval,omitempty" json:"interval,omitempty"`
	// LostAfter is how long an instrument may be silent before the bay is made safe; 2 s if not given.
	LostAfter Span `mapstructure:"lost_after" yaml:"lost_after,omitempty" json:"lostAfter,omitempty"`
	// HandFor is after how long without a word outputs that are on by hand go off; 30 min if not given. Somebody is
	// asked a minute before.
	HandFor Span `mapstructure:"hand_for" yaml:"hand_for,omitempty" json:"handFor,omitempty"`
	// Handler is the HTTP address of a unit handler: it is told each serial number before anything is energised,
	// and answers when the unit is in place.
	Handler string `mapstructure:"handler" yaml:"handler,omitempty" json:"handler,omitempty"`
}

// The gangs: how several channels work as one.
const (
	GangSeries   = "series"
	GangParallel = "parallel"
)

// SeatConfig names what fills a seat: a channel, or several that work as one.
type SeatConfig struct {
	Instrument string `mapstructure:"instrument" yaml:"instrument,omitempty" json:"instrument,omitempty"`
	Channel    int    `mapstructure:"channel" yaml:"channel,omitempty" json:"channel,omitempty"`
	// Gang is GangSeries or GangParallel for Channels that work as one.
	Gang     string       `mapstructure:"gang" yaml:"gang,omitempty" json:"gang,omitempty"`
	Channels []ChannelRef `mapstructure:"channels" yaml:"channels,omitempty" json:"channels,omitempty"`
	// Imbalance is how far the share of one channel may be from the mean, as a share of it; 0.1 if not given.
	Imbalance float64                 `mapstructure:"imbalance" yaml:"imbalance,omitempty" json:"imbalance,omitempty"`
	Sensors   map[string]SensorConfig `mapstructure:"sensors" yaml:"sensors,omitempty" json:"sensors,omitempty"`
	// Defaults are set before every run, by quantity: {amps: 1 A, sense: remote}.
	Defaults map[string]string `mapstructure:"defaults" yaml:"defaults,omitempty" json:"defaults,omitempty"`
	// Probes say what the channels of a scope see, by the name that procedures use: {output: {channel: 1, factor: 10}}.
	Probes map[string]ProbeConfig `mapstructure:"probes" yaml:"probes,omitempty" json:"probes,omitempty"`
	// Leads are those to the unit; where the seat does not sense remotely, its volts and watts are corrected for them.
	Leads *LeadsConfig `mapstructure:"leads" yaml:"leads,omitempty" json:"leads,omitempty"`
	// Wiring says of a meter of power where its voltage input is: voltmeter-at-supply or voltmeter-at-unit.
	Wiring string `mapstructure:"wiring" yaml:"wiring,omitempty" json:"wiring,omitempty"`
}

// LeadsConfig is the resistance of both leads of a seat together, known to ± Within, Ω.
type LeadsConfig struct {
	Ohms   float64 `mapstructure:"ohms" yaml:"ohms" json:"ohms"`
	Within float64 `mapstructure:"within" yaml:"within" json:"within"`
}

// ProbeConfig joins a channel of a scope to the unit: what it sees there is factor times the volts at the connector.
type ProbeConfig struct {
	Channel int     `mapstructure:"channel" yaml:"channel" json:"channel"`
	Factor  float64 `mapstructure:"factor" yaml:"factor,omitempty" json:"factor,omitempty"`
	// Unit is V, or A for a current probe or a shunt; empty: V.
	Unit string `mapstructure:"unit" yaml:"unit,omitempty" json:"unit,omitempty"`
}

// ChannelRef is a channel of an instrument; channel 0 stands for 1.
type ChannelRef struct {
	Instrument string `mapstructure:"instrument" yaml:"instrument" json:"instrument"`
	Channel    int    `mapstructure:"channel" yaml:"channel,omitempty" json:"channel,omitempty"`
}

// All lists the channels, one or several.
func (s SeatConfig) All() []ChannelRef {
	if len(s.Channels) > 0 {
		return s.Channels
	}
	return []ChannelRef{{s.Instrument, s.Channel}}
}

// SensorConfig makes one quantity of what an instrument reads as another, or corrects it:
// value = (reading − zero) × scale + offset, all in SI.
type SensorConfig struct {
	// From is the quantity that the instrument reads; empty: the same.
	From   string  `mapstructure:"from" yaml:"from,omitempty" json:"from,omitempty"`
	Zero   float64 `mapstructure:"zero" yaml:"zero,omitempty" json:"zero,omitempty"`
	Scale  float64 `mapstructure:"scale" yaml:"scale,omitempty" json:"scale,omitempty"`
	Offset float64 `mapstructure:"offset" yaml:"offset,omitempty" json:"offset,omitempty"`
}

// Value applies the sensor to a reading.
func (s SensorConfig) Value(reading float64) float64 {
	scale := s.Scale
	if scale == 0 {
		scale = 1
	}
	return (reading-s.Zero)*scale + s.Offset
}

// SensorChange changes a sensor: with Zero what is read now becomes 0; with Points it is calibrated by two;
// otherwise Sensor is taken as it is.
type SensorChange struct {
	Zero   bool               `json:"zero,omitempty"`
	Points []CalibrationPoint `json:"points,omitempty"`
	Sensor *SensorConfig      `json:"sensor,omitempty"`
}

// CalibrationPoint is what a sensor's source reads, and what is true there, in SI.
type CalibrationPoint struct {
	Reading float64 `json:"reading"`
	True    float64 `json:"true"`
}

// BenchConfig is the bench as it is configured, and where each entry comes from: "file" or "console".
type BenchConfig struct {
	Instruments map[string]InstrumentConfig `json:"instruments"`
	Bays        map[string]BayConfig        `json:"bays"`
	Origin      map[string]string           `json:"origin"` // "instruments.psu1" → "file"
}

// Found is an instrument that answered at an address.
type Found struct {
	Address  string `json:"address"`
	Identity string `json:"identity,omitempty"`
	// Dialects are those whose identity matches.
	Dialects []string `json:"dialects"`
	// Name is set if the bench has an instrument at the address already.
	Name    string `json:"name,omitempty"`
	Problem string `json:"problem,omitempty"`
}

// Discovery says where to look for instruments; nothing else is touched.
type Discovery struct {
	// Hosts and Ports are all combined.
	Hosts []string `json:"hosts,omitempty"`
	Ports []int    `json:"ports,omitempty"`
	// Serial looks at the serial devices of the service's machine, with these baud rates; empty: 9600 and 115200.
	Serial bool  `json:"serial,omitempty"`
	Bauds  []int `json:"bauds,omitempty"`
	// Announced asks those that announce themselves on the networks of the service's machine by mDNS.
	Announced bool `json:"announced,omitempty"`
	// Addresses are asked as they are.
	Addresses []string `json:"addresses,omitempty"`
	// Dialect names the one that is expected: its question is asked, and where nobody answers what may be wrong with the
	// end of its messages or the number of the unit is looked for.
	Dialect string `json:"dialect,omitempty"`
}

// Dialect is how a model of instrument is spoken to.
type Dialect struct {
	Name     string   `json:"name"`
	Title    string   `json:"title"`
	Protocol string   `json:"protocol"`
	Channels int      `json:"channels"`
	Seats    []string `json:"seats"`
	// File is where it was read; shipped ones say so.
	File string `json:"file"`
	Text string `json:"text,omitempty"`
}

// Exchange is one message to an instrument and what came back.
type Exchange struct {
	At      time.Time `json:"at"`
	Message string    `json:"message"`
	Answer  string    `json:"answer,omitempty"`
	Latency float64   `json:"latency"` // s
	Error   string    `json:"error,omitempty"`
}

// Verdict is what a finding of a preflight means.
type Verdict string

// The verdicts.
const (
	Blocks Verdict = "blocks"
	Warns  Verdict = "warns"
	Fine   Verdict = "fine"
)

// PreflightFinding is one check of procedure, unit and bay before anything is energised.
type PreflightFinding struct {
	Check   string  `json:"check"`
	Verdict Verdict `json:"verdict"`
	What    string  `json:"what"`
	Remedy  string  `json:"remedy,omitempty"`
	// Vouch says that what blocks can be told by a look at the unit only: who has looked starts with the check
	// among [StartRun.Vouched].
	Vouch bool `json:"vouch,omitempty"`
	// Connection is the wiring of a meter that is advised, of which there is a drawing.
	Connection string `json:"connection,omitempty"`
}

// Preflight is the check of procedure, unit and bay before anything is energised.
type Preflight struct {
	Bay       string             `json:"bay"`
	Procedure string             `json:"procedure"`
	Revision  int                `json:"revision"`
	Serial    string             `json:"serial"`
	Blocked   bool               `json:"blocked"`
	Findings  []PreflightFinding `json:"findings"`
}

// Control is something that can be set by hand on a seat, with its bounds.
type Control struct {
	Quantity string `json:"quantity"`
	Unit     string `json:"unit,omitempty"`
	// Most is the end of the instrument's range or the nameplate's window, in Unit; absent: not known.
	Most *float64 `json:"most,omitempty"`
	// Words are the possible values of what takes a word.
	Words []string `json:"words,omitempty"`
	// Value is what was set last, as text.
	Value string `json:"value,omitempty"`
}

// TakenOver is what is set now in a bay, as text for a procedure.
type TakenOver struct {
	Stage    string                       `json:"stage"`
	Defaults map[string]map[string]string `json:"defaults"`
}

// Drills are what came of a drill of the whole house, or of the last one.
type Drills struct {
	// At and By are of the last drill that the warden passed; absent if it never had one.
	At *time.Time `json:"at,omitempty"`
	By string     `json:"by,omitempty"`
	// What it was, in words.
	Words string `json:"words,omitempty"`
	// Bays are those of the drill that was just made.
	Bays []Drill `json:"bays,omitempty"`
}

// Drill is how the warden did when a conductor was stalled on purpose.
type Drill struct {
	Bay string `json:"bay"`
	// OffAfter is how long after the stall began the last output was read back as off, s.
	OffAfter float64  `json:"offAfter"`
	Off      []string `json:"off"`
}
