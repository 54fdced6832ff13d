package archive

import (
	"encoding/json"
	"fmt"
	"strings"

	"usherbench/core/quantity"
	"usherbench/core/uncertainty"
)

// importedColumns are where the quantities of a log stand in its run.
var importedColumns = map[string]string{"volts": "cycler.volts", "amps": "cycler.amps", "celsius": "thermo.celsius"}

// anyReading is the end of a range that holds every reading, SI.
const anyReading = 1e12

// accuracies reads what is said of the accuracy of a log, as the specs of a run; empty: nothing is.
func accuracies(stated map[string]string) (specs string, err error) {
	if len(stated) == 0 {
		return "", nil
	}
	all := map[string]uncertainty.Spec{}
	for name, text := range stated {
		column, known := importedColumns[name]
		if !known {
			return "", fmt.Errorf("a log has no accuracy of %q; give it for volts, amps or celsius", name)
		}
		r, err := readAccuracy(name, text)
		if err != nil {
			return "", err
		}
		all[column] = uncertainty.Spec{r}
	}
	data, err := json.Marshal(all)
	return string(data), err
}

// readAccuracy reads "0.05 % + 2 mV": a share of the reading, and an offset, either or both.
func readAccuracy(name, text string) (r uncertainty.Range, err error) {
	kind, _ := quantity.KindOf(name)
	r.To = anyReading
	for _, term := range strings.Split(strings.ReplaceAll(text, "±", ""), "+") {
		q, err := quantity.Parse(strings.TrimSpace(term))
		switch {
		case err == nil && q.Dim == quantity.Number && q.Value > 0:
			r.Reading += q.Value
		case err == nil && q.Dim == kind.Unit.Dim && q.Value > 0:
			r.Offset += q.Value
		default:
			return r, fmt.Errorf("the accuracy of %s is %q; write it like 0.05 %% + 2 m%s: a share of the reading, and an "+
				"offset with its unit", name, text, kind.Unit.Symbol)
		}
	}
	return r, nil
}
