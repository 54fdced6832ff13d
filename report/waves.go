package report

import (
	"bufio"
	"fmt"
	"io"
	"strconv"

	"usherbench/api"
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

// WriteMakeup writes the spectrum, or the histogram, of the channels of one capture as CSV: a row a line or a bar.
func WriteMakeup(to io.Writer, all []api.Makeup, spectrum bool) error {
	w := bufio.NewWriter(to)
	if spectrum {
		fmt.Fprintln(w, "channel,frequency [Hz],amplitude,unit")
	} else {
		fmt.Fprintln(w, "channel,value,unit,share")
	}
	for _, m := range all {
		if spectrum {
			for i, f := range m.Hertz {
				fmt.Fprintf(w, "%s,%.9g,%.7g,%s\n", m.Name, f, m.Amplitudes[i], m.Unit)
			}
			continue
		}
		for i, x := range m.Values {
			fmt.Fprintf(w, "%s,%.7g,%s,%.7g\n", m.Name, x, m.Unit, m.Shares[i])
		}
	}
	return w.Flush()
}
