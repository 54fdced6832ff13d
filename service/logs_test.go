package service_test

import (
	"fmt"
	"net/http"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/text/encoding/unicode"

	"usherbench/api"
	"usherbench/core/record"
	"usherbench/service/servicetest"
)

// logOf is a log of an hour with a row every ten seconds.
func logOf(volts, amps func(t float64) float64) string {
	var b strings.Builder
	b.WriteString("time [s];volts [V];amps [A]\n")
	for k := range 361 {
		t := float64(10 * k)
		fmt.Fprintf(&b, "%g;%.4f;%.4f\n", t, volts(t), amps(t))
	}
	return b.String()
}

func constant(x float64) func(float64) float64 { return func(float64) float64 { return x } }

func falling(t float64) float64 { return 25.5 - 5*t/3600 }

func imported(t *testing.T, h *servicetest.House, l api.ImportLog) (api.Run, error) {
	look, err := h.Local.LookAtLog(t.Context(), l)
	require.NoError(t, err)
	l.Name, l.Serial = "log.csv", "GP-1"
	join, discharge := l.Mapping.Join, l.Mapping.DischargeIs
	l.Mapping = look.Mapping
	l.Mapping.Join, l.Mapping.DischargeIs = join, discharge
	run, err := h.Local.Import(t.Context(), l)
	if err != nil {
		return api.Run{}, err
	}
	doc, err := h.Local.Run(t.Context(), run.ID)
	require.NoError(t, err)
	return doc, nil
}

func TestLogsOfStrangersBecomeRuns(t *testing.T) {
	servicetest.Simulated(t, func(t *testing.T) {
		h := servicetest.Start(t, servicetest.Options{})
		func() { // a log in which nothing flows is a run
			for _, plate := range []string{"", "gannet"} {
				doc, err := imported(t, h, api.ImportLog{Text: logOf(constant(25), constant(0)), Nameplate: plate})
				require.NoError(t, err)
				for _, f := range doc.Figures {
					assert.NotNil(t, f.Undetermined, f.ID)
				}
			}
		}()
		func() { // its accuracy gives figures their uncertainty
			text := logOf(falling, constant(-2))
			plain, err := imported(t, h, api.ImportLog{Text: text, Nameplate: "gannet"})
			require.NoError(t, err)
			stated, err := imported(t, h, api.ImportLog{Text: text, Nameplate: "gannet",
				Accuracy: map[string]string{"volts": "0.05%+2mV", "amps": "0.1 % + 5 mA"}})
			require.NoError(t, err)
			assert.Contains(t, figureOf(t, plain, "capacity").Remarks, "accuracy not stated")
			capacity := figureOf(t, stated, "capacity")
			assert.InDelta(t, 2*3240.0/3600, capacity.Value, 1e-3)
			assert.InDelta(t, 1.8*(0.001+0.0025)*0.95, capacity.U, 2e-3)
			_, err = imported(t, h, api.ImportLog{Text: text, Accuracy: map[string]string{"volts": "2 A"}})
			assert.ErrorContains(t, err, "write it like 0.05 % + 2 mV")
		}()
		func() { // a sign that the volts contradict is asked for
			text := logOf(falling, constant(2))
			_, err := imported(t, h, api.ImportLog{Text: text, Nameplate: "gannet"})
			require.ErrorContains(t, err, "is a discharge positive in this log?")
			assert.Equal(t, http.StatusBadRequest, problemOf(t, err).Status)
			doc, err := imported(t, h, api.ImportLog{Text: text, Nameplate: "gannet", Mapping: api.Mapping{
				DischargeIs: "positive"}})
			require.NoError(t, err)
			assert.Positive(t, figureOf(t, doc, "capacity").Value)
		}()
		func() { // in another coding, with a gap, and a last line that is cut off
			text := logOf(falling, constant(-2))
			from, to := strings.Index(text, "\n1000;"), strings.Index(text, "\n1300;")
			data, err := unicode.UTF16(unicode.LittleEndian, unicode.UseBOM).NewEncoder().Bytes([]byte(text[:from] + text[to:] +
				"3610;"))
			require.NoError(t, err)
			doc, err := imported(t, h, api.ImportLog{Data: data, Nameplate: "gannet"})
			require.NoError(t, err)
			assert.Equal(t, []string{"no readings for 310 s, from 990 s on"}, labels(doc, record.MarkGap))
			assert.Contains(t, labels(doc, record.MarkBench), "the last line was cut off and was left out")
		}()
	})
}
