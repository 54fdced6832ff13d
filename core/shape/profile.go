package shape

import (
	"fmt"
	"math"
	"slices"

	"usherbench/core/quantity"
)

// Profile builds a well-known supply-voltage profile from parameters. The standard's number says where the
// profile is described; the defaults are those of a 12 V system and stand to be set to the edition, the code
// and the severity that a unit must meet.
type Profile struct {
	Name, Title string
	// Standard is the number of the standard that describes such a profile.
	Standard   string
	Parameters []Parameter
	build      func(v map[string]float64) []Segment
}

// Parameter of a profile. Level marks parameters in the unit of the quantity that is set; others are of the
// dimension Dim.
type Parameter struct {
	Name, About string
	Default     float64 // SI
	Level       bool
	Dim         quantity.Dimension
}

// Build makes the segments; parameters that are not given have their defaults. It fails on values that make no profile.
func (p Profile) Build(given map[string]float64) ([]Segment, error) {
	v := map[string]float64{}
	for _, a := range p.Parameters {
		v[a.Name] = a.Default
		if x, ok := given[a.Name]; ok {
			v[a.Name] = x
		}
		if !a.Level && v[a.Name] <= 0 {
			return nil, fmt.Errorf("%s of profile %s must be more than 0", a.Name, p.Name)
		}
	}
	segments := p.build(v)
	if len(segments) > MostSegments {
		return nil, fmt.Errorf("profile %s has %d segments with these values; at most %d are possible", p.Name, len(segments),
			MostSegments)
	}
	return segments, nil
}

// LookupProfile finds a profile by its name.
func LookupProfile(name string) (Profile, bool) {
	i := slices.IndexFunc(profiles, func(p Profile) bool { return p.Name == name })
	if i < 0 {
		return Profile{}, false
	}
	return profiles[i], true
}

// Profiles lists the profiles.
func Profiles() []Profile { return slices.Clone(profiles) }

// ProfileNames lists their names.
func ProfileNames() []string {
	var names []string
	for _, p := range profiles {
		names = append(names, p.Name)
	}
	return names
}

func level(name string, x float64, about string) Parameter {
	return Parameter{Name: name, About: about, Default: x, Level: true}
}

func lasting(name string, seconds float64, about string) Parameter {
	return Parameter{Name: name, About: about, Default: seconds, Dim: quantity.Time}
}

func hold(x, t float64) Segment    { return Segment{Kind: Hold, For: t, From: x, To: x} }
func ramp(a, b, t float64) Segment { return Segment{Kind: Ramp, For: t, From: a, To: b} }

var profiles = []Profile{
	{
		Name: "cranking-dip", Title: "Engine cranking: a fast dip, a plateau with ripple, and the return",
		Standard: "ISO 16750-2, starting profile",
		Parameters: []Parameter{
			level("rest", 12.5, "level before and after"),
			level("dip", 6, "level at the bottom of the dip"),
			level("plateau", 8, "mean level while the engine is turned"),
			level("ripple", 1, "amplitude of the ripple on the plateau"),
			{Name: "ripple_rate", About: "frequency of the ripple", Default: 2, Dim: quantity.Frequency},
			lasting("before", 1, "time at rest before"), lasting("fall", 5e-3, "time of the falling edge"),
			lasting("bottom", 15e-3, "time at the bottom"), lasting("climb", 50e-3, "time from the bottom to the plateau"),
			lasting("turning", 10, "time on the plateau"), lasting("rise", 100e-3, "time from the plateau to rest"),
			lasting("after", 2, "time at rest after"),
		},
		build: func(v map[string]float64) []Segment {
			// The plateau ends after whole periods, so that the return begins at its mean.
			turning := math.Max(math.Round(v["turning"]*v["ripple_rate"]), 1) / v["ripple_rate"]
			return []Segment{
				hold(v["rest"], v["before"]), ramp(v["rest"], v["dip"], v["fall"]), hold(v["dip"], v["bottom"]),
				ramp(v["dip"], v["plateau"], v["climb"]),
				{Kind: Sine, For: turning, Around: v["plateau"], Swing: v["ripple"], Hertz: v["ripple_rate"]},
				ramp(v["plateau"], v["rest"], v["rise"]), hold(v["rest"], v["after"]),
			}
		},
	},
	{
		Name: "slow-decrease", Title: "Slow decrease to the lowest level and slow increase back",
		Standard: "ISO 16750-2, slow decrease and increase of supply voltage",
		Parameters: []Parameter{
			level("top", 9, "level at begin and end"), level("bottom", 0, "lowest level"),
			lasting("fall", 18*60, "time of the decrease"),
			lasting("stay", 1, "time at the lowest level"), lasting("rise", 18*60, "time of the increase"),
			lasting("ends", 5, "time at the top before and after"),
		},
		build: func(v map[string]float64) []Segment {
			return []Segment{hold(v["top"], v["ends"]), ramp(v["top"], v["bottom"], v["fall"]), hold(v["bottom"], v["stay"]),
				ramp(v["bottom"], v["top"], v["rise"]), hold(v["top"], v["ends"])}
		},
	},
	{
		Name: "momentary-drop", Title: "A short drop, as when a fuse in another circuit melts",
		Standard: "ISO 16750-2, momentary drop in supply voltage",
		Parameters: []Parameter{
			level("rest", 9, "level before and after"), level("drop", 4.5, "level of the drop"),
			lasting("edge", 10e-3, "time of each edge"),
			lasting("stay", 100e-3, "time at the level of the drop"), lasting("ends", 1, "time at rest before and after"),
		},
		build: func(v map[string]float64) []Segment {
			return []Segment{hold(v["rest"], v["ends"]), ramp(v["rest"], v["drop"], v["edge"]), hold(v["drop"], v["stay"]),
				ramp(v["drop"], v["rest"], v["edge"]), hold(v["rest"], v["ends"])}
		},
	},
	{
		Name: "reset-steps", Title: "Deeper and deeper drops, each followed by a return: does the unit reset well?",
		Standard: "ISO 16750-2, reset behaviour at voltage drop",
		Parameters: []Parameter{
			level("top", 9, "level between the drops"), level("bottom", 0, "level of the deepest drop"),
			{Name: "share", About: "each drop is deeper by this share of top − bottom", Default: 0.05, Dim: quantity.Number},
			lasting("stay", 5, "time of each drop"), lasting("recover", 10, "time at the top after each drop"),
		},
		build: func(v map[string]float64) []Segment {
			segments := []Segment{hold(v["top"], v["recover"])}
			count := int(math.Min(math.Ceil(1/v["share"]-1e-9), MostSegments))
			for n := 1; n <= count; n++ {
				x := v["top"] - math.Min(float64(n)*v["share"], 1)*(v["top"]-v["bottom"])
				segments = append(segments, hold(x, v["stay"]), hold(v["top"], v["recover"]))
			}
			return segments
		},
	},
	{
		Name: "load-dump", Title: "Load dump: a fast rise and an exponential fall", Standard: "ISO 16750-2, load dump",
		Parameters: []Parameter{
			level("rest", 14, "level before and after"), level("peak", 35, "highest level"),
			lasting("rise", 10e-3, "time of the rise"),
			lasting("width", 400e-3, "time from the peak until a tenth of the height is left"),
			lasting("ends", 1, "time at rest before and after"),
		},
		build: func(v map[string]float64) []Segment {
			tau := v["width"] / math.Ln10
			return []Segment{
				hold(v["rest"], v["ends"]), ramp(v["rest"], v["peak"], v["rise"]),
				{Kind: Exponential, For: 3 * v["width"], From: v["peak"], To: v["rest"], Tau: tau}, hold(v["rest"], v["ends"]),
			}
		},
	},
}
