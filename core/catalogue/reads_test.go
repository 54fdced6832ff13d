package catalogue_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"usherbench/core/catalogue"
	"usherbench/core/figure"
)

// A figure of a meter is refused in a procedure that has none, before anything is energised.
func TestFiguresOfAMeterNeedOne(t *testing.T) {
	with := func(needs, id string) error {
		gear := ""
		if catalogue.Figures()[id].WithGear {
			gear = ", gear: watched"
		}
		_, err := catalogue.Parse([]byte("procedure: x\nfor: any\nneeds: {load: {}"+needs+"}\nstages:\n"+
			"  - name: watched\n    hold: {for: 1 s}\nfigures:\n  - {figure: "+id+", stage: watched"+gear+"}\n"), nil, nil,
			nil)
		return err
	}
	for id, d := range catalogue.Figures() {
		if len(d.Reads) == 0 || d.Needs != figure.Window {
			continue
		}
		assert.NoError(t, with(", meter: {}", id), id)
		assert.ErrorContains(t, with("", id), id+" needs meter."+d.Reads[0], id)
	}
}
