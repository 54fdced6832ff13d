package procedure

import (
	"strings"

	"usherbench/core/document"
	"usherbench/core/shape"
)

// readTables reads the tables that travel with the document: {dip.csv: "time [s],volts [V]\n…"}.
func (r *Reader) readTables(n document.Node) {
	for _, e := range n.Entries() {
		table, err := shape.ReadCSV(strings.NewReader(e.Value.Text() + "\n"))
		if err != nil {
			e.Value.Fail("table %s: %s", e.Key, err)
			continue
		}
		r.tables[e.Key] = table
	}
}
