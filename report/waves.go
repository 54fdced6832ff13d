package report

import (
	"bufio"
	"fmt"
	"io"
	"strconv"

	"usherbench/core/waveform"
)

// WriteWaves writes waveforms of one capture as CSV: a row a sample, with units in the header. Times count from the
// trigger. Channels that have fewer samples are empty at the end.
func WriteWaves(to io.Writer, waves []*waveform.Waveform) error {
	w := bufio.NewWriterSize(to, 64<<10)
	fmt.Fprint(w, "time [s]")
	most := 0
	for _, x := range waves {
		fmt.Fprintf(w, ",%s [%s]", x.Channel, x.Unit)
	}
	fmt.Fprintln(w)
	for i, x := range waves {
		if x.Len() > waves[most].Len() {
			most = i
		}
	}
	line := make([]byte, 0, 256)
	for k := 0; len(waves) > 0 && k < waves[most].Len(); k++ {
		line = strconv.AppendFloat(line[:0], waves[most].Time(k), 'g', 9, 64)
		for _, x := range waves {
			line = append(line, ',')
			if k < x.Len() {
				line = strconv.AppendFloat(line, x.At(k), 'g', 7, 64)
			}
		}
		if _, err := w.Write(append(line, '\n')); err != nil {
			return err
		}
	}
	return w.Flush()
}
