package bench

import (
	"fmt"
	"maps"
	"slices"

	"usherbench/core/document"
	"usherbench/core/procedure"
	"usherbench/core/quantity"
	"usherbench/instrument/dialect"
)

// ReadSetting reads a setting as people write it, and checks that the dialect knows it.
func ReadSetting(d *dialect.Dialect, seat, q, value string) (procedure.Setting, error) {
	s := procedure.Setting{Seat: seat, Quantity: q}
	if words := d.Words[q]; words != nil {
		if _, ok := words[value]; !ok {
			return s, fmt.Errorf("%s.%s cannot be %q; %s", seat, q, value,
				document.Suggest(value, slices.Collect(maps.Keys(words))))
		}
		s.Word = value
		return s, nil
	}
	kind, ok := quantity.KindOf(q)
	if _, settable := d.Set[q]; !ok || !settable {
		return s, fmt.Errorf("%s.%s cannot be set; %s", seat, q,
			document.Suggest(q, slices.Concat(slices.Collect(maps.Keys(d.Set)), slices.Collect(maps.Keys(d.Words)))))
	}
	parsed, err := quantity.Parse(value)
	if err != nil {
		return s, err
	}
	if parsed = parsed.As(kind.Unit.Dim); parsed.Dim != kind.Unit.Dim {
		return s, fmt.Errorf("%q is %s, but %s.%s takes %s", value, parsed.Dim, seat, q, kind.Unit.Dim)
	}
	if err := kind.MayBe(parsed.Value); err != nil {
		return s, fmt.Errorf("%s.%s: %w", seat, q, err)
	}
	s.Value = parsed.Value
	return s, nil
}
