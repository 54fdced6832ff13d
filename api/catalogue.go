package api

import (
	"slices"
	"usherbench/core/catalogue"
	"usherbench/core/nameplate"
	"usherbench/core/quantity"
	"usherbench/core/seats"
)

// Catalogue is what this program knows: the quantities and the kinds of seats, stages and figures that there are.
type Catalogue struct {
	// Quantities stand in the order in which people read them.
	Quantities []Quantity   `json:"quantities"`
	Seats      []SeatKind   `json:"seats"`
	Stages     []StageKind  `json:"stages"`
	Figures    []FigureKind `json:"figures"`
	Units      []UnitKind   `json:"units"`
}

// UnitKind is a kind of unit with what its data sheet states.
type UnitKind struct {
	Name   string      `json:"name"`
	Title  string      `json:"title"`
	Fields []UnitField `json:"fields"`
	Bounds []UnitBound `json:"bounds"`
	// Procedure is the ready one that a first run begins from; empty: there is none.
	Procedure string `json:"procedure,omitempty"`
}

// UnitField is a rating that a data sheet states.
type UnitField struct {
	Rating  string `json:"rating"`
	Title   string `json:"title"`
	Example string `json:"example"`
	Needed  bool   `json:"needed"`
}

// UnitBound is the upper end of a window of safe setpoints: so many times a rating.
type UnitBound struct {
	Column string  `json:"column"`
	Rating string  `json:"rating"`
	Times  float64 `json:"times"`
}

// Quantity is what is read of a seat, set on it, or counted.
type Quantity struct {
	Name  string `json:"name"`
	Unit  string `json:"unit"`
	Title string `json:"title"`
	// Parts are what it may be read in besides the whole: "phases" (volts.1 to volts.3), "sides" (volts.ac, volts.dc),
	// "harmonics" (volts.h1 to volts.h50).
	Parts []string `json:"parts"`
	// Decimals of a readout.
	Decimals int `json:"decimals"`
	// Colour names the colour that the quantity has everywhere.
	Colour string `json:"colour"`
	// Read is true for what people read of a seat, Drawn for what curves show without being asked, Charted for what has
	// a panel of its own in them, Compared for what a run is held against its rehearsal by.
	Read     bool `json:"read"`
	Drawn    bool `json:"drawn"`
	Charted  bool `json:"charted"`
	Compared bool `json:"compared"`
}

// SeatKind is a kind of seat.
type SeatKind struct {
	Name  string   `json:"name"`
	Roles []string `json:"roles"` // "feeds", "drains", "measures", "connects"
	Reads []string `json:"reads"`
	Sets  []string `json:"sets"`
	Modes []string `json:"modes"`
	// Choices are what else it can be told by a word, with the words: sense: remote, local.
	Choices map[string][]string `json:"choices"`
}

// StageKind is a kind of stage.
type StageKind struct {
	Word  string `json:"word"`
	About string `json:"about"`
}

// FigureKind is a figure that can be asked for.
type FigureKind struct {
	ID    string `json:"id"`
	Title string `json:"title"`
	Unit  string `json:"unit"`  // empty: that of the quantity it is asked for
	Needs string `json:"needs"` // what the record must hold; empty: whatever there is
}

// FirstStep is a step from an empty house to a first run.
type FirstStep struct {
	Step    string `json:"step"`
	Done    bool   `json:"done"`
	About   string `json:"about"`
	Place   string `json:"place"`   // of the console in which it is done
	Command string `json:"command"` // with which it is done
}

// NewCatalogue tells what this program knows.
func NewCatalogue() Catalogue {
	c := Catalogue{Quantities: []Quantity{}, Seats: []SeatKind{}, Stages: []StageKind{}, Figures: []FigureKind{},
		Units: []UnitKind{}}
	for _, q := range quantity.Kinds() {
		c.Quantities = append(c.Quantities, Quantity{Name: q.Name, Unit: q.Unit.Symbol, Title: q.Title,
			Parts: q.Parts.Words(), Decimals: q.Decimals, Colour: q.Colour, Read: q.Read, Drawn: q.Drawn, Charted: q.Charted,
			Compared: q.Compared})
	}
	for _, k := range seats.All() {
		s := SeatKind{Name: k.Name, Roles: k.Roles.Words(), Reads: listed(slices.Concat(k.Reads, k.Also)),
			Sets: listed(k.Sets), Modes: listed(k.Modes), Choices: map[string][]string{}}
		for _, choice := range k.Choices {
			s.Choices[choice.Name] = choice.Words
		}
		c.Seats = append(c.Seats, s)
	}
	for _, k := range catalogue.Language().KindList() {
		c.Stages = append(c.Stages, StageKind{Word: k.Word, About: k.About})
	}
	for _, k := range nameplate.UnitKinds() {
		u := UnitKind{Name: k.Name, Title: k.Title, Procedure: k.Procedure, Fields: []UnitField{}, Bounds: []UnitBound{}}
		for _, f := range k.Fields {
			u.Fields = append(u.Fields, UnitField(f))
		}
		for _, b := range k.Bounds {
			u.Bounds = append(u.Bounds, UnitBound(b))
		}
		c.Units = append(c.Units, u)
	}
	figures := catalogue.Figures()
	for _, id := range figures.IDs() {
		d := figures[id]
		c.Figures = append(c.Figures, FigureKind{ID: d.ID, Title: d.Title, Unit: d.Unit, Needs: string(d.Needs)})
	}
	return c
}

// listed is a list that is [] in JSON when it is empty.
func listed(words []string) []string { return append([]string{}, words...) }
