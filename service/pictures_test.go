package service_test

import (
	"bytes"
	"encoding/base64"
	"image"
	"image/png"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"usherbench/api"
	"usherbench/client"
	"usherbench/service/servicetest"
)

// A prompt shows a picture that travels with the procedure.
func TestAPromptShowsAPicture(t *testing.T) {
	servicetest.Simulated(t, func(t *testing.T) {
		h := servicetest.Start(t, servicetest.Options{TimeFactor: 20})
		var drawn bytes.Buffer
		require.NoError(t, png.Encode(&drawn, image.NewGray(image.Rect(0, 0, 8, 8))))
		text := func(picture string) string {
			return "procedure: seen\nfor: any\nneeds: {load: {}}\npictures: {fixture.png: " +
				base64.StdEncoding.EncodeToString(drawn.Bytes()) + "}\nstages:\n  - ask: {confirm: Is it so?, picture: " + picture +
				"}\n"
		}
		_, err := h.Local.PushProcedure(t.Context(), text("lid.png"), "")
		assert.ErrorContains(t, err, `there is no picture "lid.png"`)
		_, err = h.Local.PushProcedure(t.Context(), "procedure: seen\nfor: any\nneeds: {load: {}}\npictures: {a.png: R0lG}\n"+
			"stages: [{hold: {for: 1 s}}]\n", "")
		assert.ErrorContains(t, err, "neither PNG nor JPEG")
		h.Push(text("fixture.png"))
		run := h.Start("bay1", "seen", "TN-1")
		for range 100 {
			b, err := h.Local.Bay(t.Context(), "bay1")
			require.NoError(t, err)
			if b.Prompt != nil {
				assert.Equal(t, "fixture.png", b.Prompt.Picture)
				break
			}
			time.Sleep(50 * time.Millisecond)
		}
		var seen bytes.Buffer
		require.NoError(t, h.Local.Picture(t.Context(), run.ID, "fixture.png", &seen))
		assert.Equal(t, drawn.Bytes(), seen.Bytes())
		assert.ErrorContains(t, h.Local.Picture(t.Context(), run.ID, "lid.png", &seen), "not found")
		_, err = h.Local.Intervene(t.Context(), "bay1", api.Intervention{Do: api.DoAnswer, Text: "yes"})
		require.NoError(t, err)
		ended := h.Ended(run)
		assert.Equal(t, "done", ended.State)
		require.Len(t, ended.Asked, 1)
		assert.Equal(t, "Is it so?", ended.Asked[0].Prompt)
		assert.Equal(t, "fixture.png", ended.Asked[0].Picture)
		for format, holds := range map[string]string{"html": "data:image/png;base64,", "pdf": "/Subtype /Image"} {
			var report bytes.Buffer
			require.NoError(t, h.Local.Report(t.Context(), run.ID, client.Printed{Format: format}, &report))
			assert.Contains(t, report.String(), holds, "the picture is in the report")
		}
	})
}
