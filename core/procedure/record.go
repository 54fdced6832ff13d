package procedure

import (
	"strings"

	"usherbench/core/condition"
	"usherbench/core/document"
	"usherbench/core/quantity"
)

// column reads the name of a column of the run.
func (r *Reader) Column(n document.Node) string {
	name := n.Text()
	if !r.hasColumn(name) {
		n.Fail("%s", UnknownName(name, r.p.Columns))
		return ""
	}
	return name
}

// hasColumn tells whether a run may have a column. A part of a reading, such as meter.volts.2, becomes one by being
// named: a program does not carry every part that an instrument might give.
func (r *Reader) hasColumn(name string) bool {
	if r.p.Columns.Index(name) >= 0 {
		return true
	}
	seatName, reading, _ := strings.Cut(name, ".")
	seat, ok := r.Seat(seatName)
	if !ok || !seat.Kind.CanRead(reading) {
		return false
	}
	r.p.Columns = append(r.p.Columns, name)
	return true
}

// scope resolves the names of a condition while the document is read.
func (r *Reader) scope(name string) (condition.Ref, error) {
	r.hasColumn(name)
	return r.p.Scope(name)
}

// readRecord reads which frames are kept: {every: 100 ms, on change: {load.volts: 10 mV}, at least: 10 s,
// columns: [load.volts]}.
func (r *Reader) readRecord(n document.Node) Record {
	record := r.record
	var every, changes, atLeast document.Node
	keep := func(to *document.Node) func(document.Node) { return func(n document.Node) { *to = n } }
	n.Fields(map[string]func(document.Node){
		"every": keep(&every), "on change": keep(&changes), "at least": keep(&atLeast),
		"columns": func(n document.Node) {
			record.Columns = nil
			for _, item := range n.Items() {
				if column := r.Column(item); column != "" {
					record.Columns = append(record.Columns, column)
				}
			}
		},
	})
	positive := func(n document.Node) float64 {
		x := r.Value(n, quantity.Time)
		if x <= 0 {
			n.Fail("the interval must be more than 0")
		}
		return x
	}
	if every.Present() {
		record.Every = positive(every)
		record.Changes, record.AtLeast = nil, 0
	}
	switch {
	case changes.Present() && every.Present():
		changes.Fail("frames are kept every so often, or on change; give one of the two")
	case changes.Present():
		record.Every, record.Changes, record.AtLeast = 0, map[string]float64{}, 10
		for _, e := range changes.Entries() {
			if column := r.Column(e.At); column != "" {
				kind, _ := quantity.KindOfColumn(column)
				record.Changes[column] = r.Value(e.Value, kind.Unit.Dim)
			}
		}
	}
	if atLeast.Present() {
		record.AtLeast = positive(atLeast)
		if record.Changes == nil {
			atLeast.Fail("at least goes with on change; every already says how often")
		}
	}
	return record
}

// readDerived reads columns that are computed: {shunt.amps: "meter.volts / 1 mΩ"}.
func (r *Reader) readDerived(n document.Node) {
	for _, e := range n.Entries() {
		if !r.newColumn(e.At, e.Key, "a derived column") {
			continue
		}
		kind, _ := quantity.KindOfColumn(e.Key)
		if dim, ok := r.expression(e.Value); ok {
			if !dim.Like(kind.Unit.Dim) {
				e.Value.Fail("the expression is %s, but %s are %s", dim, e.Key, kind.Unit.Dim)
				continue
			}
			r.p.Derived = append(r.p.Derived, Derived{e.Key, e.Value.Text()})
			r.p.Columns = append(r.p.Columns, e.Key)
		}
	}
}
