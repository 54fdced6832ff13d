package bars

import (
	"bufio"
	"encoding/binary"
	"fmt"
	"io"
	"math"
	"math/rand/v2"
	"net"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"usherbench/core/figure"
	"usherbench/core/figure/capture"
	left "usherbench/core/record"
	"usherbench/core/waveform"
	"usherbench/instrument"
	"usherbench/instrument/dialect"
	"usherbench/store"
)

// rippled is a ripple of 200 kHz with noise in the codes of twelve bits.
func rippled(samples int) *waveform.Waveform {
	w := &waveform.Waveform{Channel: "output", Unit: "V", Step: 1e-8, Scale: 1e-5, Lowest: -32768, Highest: 32752,
		Codes: make([]int16, samples), Gain: 0.01, Stated: true}
	draw := rand.New(rand.NewPCG(1, 1))
	for i := range w.Codes {
		w.Codes[i] = int16(math.Round(100*math.Sin(2*math.Pi*200e3*w.Time(i))+2*draw.NormFloat64())) * 16
	}
	return w
}

// ask sends a question over a bare socket and takes the block that comes.
func ask(b *testing.B, conn net.Conn, lines *bufio.Reader, message string) []byte {
	_, err := conn.Write([]byte(message + "\n"))
	require.NoError(b, err)
	head := make([]byte, 2)
	_, err = io.ReadFull(lines, head)
	require.NoError(b, err)
	digits := make([]byte, head[1]-'0')
	_, err = io.ReadFull(lines, digits)
	require.NoError(b, err)
	length, err := strconv.Atoi(string(digits))
	require.NoError(b, err)
	data := make([]byte, length+1) // and the terminator
	_, err = io.ReadFull(lines, data)
	require.NoError(b, err)
	return data
}

// BenchmarkCaptureFetch compares the fetch of a million points with a bare copy of the same bytes from a socket.
func BenchmarkCaptureFetch(b *testing.B) {
	const samples = 1_000_000
	raw := make([]byte, 0, 2*samples)
	for _, c := range rippled(samples).Codes {
		raw = binary.LittleEndian.AppendUint16(raw, uint16(c))
	}
	size := strconv.Itoa(len(raw))
	block := "#" + strconv.Itoa(len(size)) + size + string(raw)
	address := serve(b, func(line string) string {
		switch {
		case strings.HasPrefix(line, "FORM:"):
			return ""
		case strings.HasPrefix(line, "*IDN?"):
			return "Usher Bench,SIM-O4,0,1"
		case strings.HasPrefix(line, "ACQ:SCAL?"):
			return "0,1E-8,0,1E-5"
		case strings.HasPrefix(line, "ACQ:DATA?"):
			return block
		}
		return `0,"No error"`
	})
	dialects, err := dialect.Load("")
	require.NoError(b, err)
	d, ok := dialects["sim-scope"]
	require.True(b, ok)
	scope, err := instrument.Open("scope", "tcp://"+address, d)
	require.NoError(b, err)
	defer scope.Close()
	channel := scope.Channel(1, "scope")
	conn, err := net.Dial("tcp", address)
	require.NoError(b, err)
	defer conn.Close()
	lines := bufio.NewReader(conn)
	probe := instrument.Probe{Channel: 1, Factor: 1, Unit: "V"}
	_, err = channel.Fetch(b.Context(), waveform.Input{Name: "output"}, probe)
	require.NoError(b, err)
	ratio := median(9, func() float64 {
		began := time.Now()
		for range 20 {
			ask(b, conn, lines, "ACQ:DATA? (@1)")
		}
		plain := time.Since(began)
		began = time.Now()
		for range 20 {
			if _, err := channel.Fetch(b.Context(), waveform.Input{Name: "output"}, probe); err != nil {
				b.Fatal(err)
			}
		}
		return plain.Seconds() / time.Since(began).Seconds()
	})
	b.ReportMetric(ratio, "ratio")
	atLeast("capture, fetch of 1 M points against a bare copy", ratio, 0.8, "%.2f")
}

// BenchmarkCapture stores a capture of ten million samples, and reads windows and figures of it.
func BenchmarkCapture(b *testing.B) {
	const samples = 10_000_000
	w := rippled(samples)
	file := filepath.Join(b.TempDir(), store.File)
	s, err := store.Open(file)
	require.NoError(b, err)
	defer s.Close()
	require.NoError(b, s.CreateRun(&store.Run{ID: "A", State: store.Live, Columns: []string{"load.volts"}}))
	r := s.NewRecorder("A", []string{"load.volts"})
	began := time.Now()
	c := left.Capture{Stage: "ripple", Of: 1, Channels: []left.Channel{left.ChannelOf(w)}}
	require.NoError(b, r.Capture(c, []store.PackedWave{store.PackWave(w)}))
	require.NoError(b, r.Finish(nil))
	stored := time.Since(began)
	info, err := os.Stat(file)
	require.NoError(b, err)
	require.NoError(b, s.Checkpoint())
	if after, err := os.Stat(file); err == nil {
		info = after
	}
	var windows []time.Duration
	draw := rand.New(rand.NewPCG(2, 2))
	for range 300 {
		span := w.Span() * math.Pow(10, -5*draw.Float64())
		from := (w.Span() - span) * draw.Float64()
		began := time.Now()
		_, got, err := s.CaptureWindow(b.Context(), "A", 0, from, from+span, 1600)
		windows = append(windows, time.Since(began))
		require.NoError(b, err)
		require.LessOrEqual(b, len(got[0].Buckets), 2*1600)
	}
	rec := &left.Record{Captures: []left.Capture{c},
		Samples: func(left.Capture, string) (*waveform.Waveform, error) { return w, nil }}
	figures := figure.NewCatalogue(capture.Figures)
	began = time.Now()
	for _, id := range []string{"ripple-pp", "ripple-rms"} {
		f := figures.Compute(rec, figure.Request{ID: id, Stage: "ripple"})
		require.Nil(b, f.Undetermined, fmt.Sprint(f.Undetermined))
	}
	took := time.Since(began)
	b.ReportMetric(stored.Seconds(), "s-stored")
	atMost("capture of 10 M samples, stored (s)", stored.Seconds(), 2, "%.2f")
	atMost("capture of 10 M samples, bytes a sample", float64(info.Size())/samples, 1.5, "%.2f")
	atMost("capture of 10 M samples, any window, p99 (ms)", quantile(windows, 0.99).Seconds()*1e3, 10, "%.1f")
	atMost("capture of 10 M samples, ripple figures (s)", took.Seconds(), 0.3, "%.2f")
}
