package service_test

import (
	"bytes"
	"image"
	"image/png"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"usherbench/api"
	"usherbench/client"
	"usherbench/service/servicetest"
	"usherbench/store"
)

func pictureOf(t *testing.T, width, height int) []byte {
	var b bytes.Buffer
	require.NoError(t, png.Encode(&b, image.NewGray(image.Rect(0, 0, width, height))))
	return b.Bytes()
}

const picturedText = `procedure: pictured
for: tern
needs: {source: {volts: 60 V, amps: 5 A}, load: {volts: 20 V, amps: 9 A, modes: [current]}}
stages:
  - name: warm
    hold: {for: 60 s}
  - name: bars
    ask: {picture: Take a picture of the bus bars}
`

// A picture is joined to a live run, answers what it asks for, stays with it bit for bit, and is in its report.
func TestPicturesAreJoinedToARunAndAnswerIt(t *testing.T) {
	servicetest.Simulated(t, func(t *testing.T) {
		ctx := t.Context()
		h := servicetest.Start(t, servicetest.Options{TimeFactor: 20})
		h.Push(picturedText)
		run := h.Start("bay1", "pictured", "TN-2208")
		h.Asked("bay1")
		operator := h.As(api.Operator)
		data := pictureOf(t, 640, 480)
		early := 30.0
		joined, err := operator.Attach(ctx, run.ID, client.Attaching{Name: "../left.png", Note: "left module", T: &early,
			Scale: &api.ThermalScale{Coldest: 21.5, Hottest: 64}}, bytes.NewReader(data))
		require.NoError(t, err)
		assert.Equal(t, 1, joined.Number)
		assert.Equal(t, "left.png", joined.Name)
		assert.InDelta(t, 30, joined.T, 0)
		now, err := operator.Attach(ctx, run.ID, client.Attaching{Name: "bars.png"}, bytes.NewReader(data))
		require.NoError(t, err)
		assert.Greater(t, now.T, 59.0, "it belongs to now")
		taken, err := operator.Attach(ctx, run.ID, client.Attaching{Name: "notes.csv", Note: "=1+1",
			Taken: run.StartedAt.Add(2 * time.Second)}, strings.NewReader("t,x\n0,1\n"))
		require.NoError(t, err)
		assert.InDelta(t, 40, taken.T, 20, "2 s by the clock, which is written in whole seconds, at twenty times the pace")

		answer := func(text string) error {
			_, err := operator.Intervene(ctx, "bay1", api.Intervention{Do: api.DoAnswer, Text: text})
			return err
		}
		assert.ErrorContains(t, answer("yes"), "not the number of an attachment")
		assert.ErrorContains(t, answer("9"), "is no picture of this run")
		assert.ErrorContains(t, answer("3"), "is no picture of this run", "a table is none")
		require.NoError(t, answer("2"))
		doc := h.Ended(run)
		assert.Equal(t, "done", doc.State, doc.Reason)
		require.Len(t, doc.Attachments, 3)
		assert.Equal(t, []int{1, 3, 2}, []int{doc.Attachments[0].Number, doc.Attachments[1].Number,
			doc.Attachments[2].Number}, "in the order of their instants")
		require.Len(t, doc.Asked, 1)
		assert.Contains(t, doc.Asked[0].Answer, "picture 2")

		var back, small, html bytes.Buffer
		require.NoError(t, operator.Attachment(ctx, run.ID, 1, &back))
		assert.Equal(t, data, back.Bytes())
		require.NoError(t, operator.SmallAttachment(ctx, run.ID, 1, &small))
		_, kind, err := image.Decode(&small)
		require.NoError(t, err)
		assert.Equal(t, "jpeg", kind)
		require.NoError(t, operator.Report(ctx, run.ID, client.Printed{Format: "html"}, &html))
		for _, said := range []string{"Pictures and files", "left module", "21.5 to 64 °C", "notes.csv", "data:image/jpeg"} {
			assert.Contains(t, html.String(), said)
		}
		soon, err := operator.Attach(ctx, run.ID, client.Attaching{Name: "soon.png", Taken: time.Now().Add(30 * time.Second)},
			bytes.NewReader(data))
		require.NoError(t, err, "clocks differ")
		assert.InDelta(t, doc.Duration, soon.T, 0)
		after, err := operator.Attach(ctx, run.ID, client.Attaching{Name: "after.png"}, bytes.NewReader(data))
		require.NoError(t, err)
		assert.InDelta(t, doc.Duration, after.T, 0, "the end of the run")
	})
}

func TestWhatCannotBeJoinedIsRefused(t *testing.T) {
	servicetest.Simulated(t, func(t *testing.T) {
		ctx := t.Context()
		h := servicetest.Start(t, servicetest.Options{TimeFactor: 20})
		run := sixHours(t, h.Running.Store)
		operator, viewer := h.As(api.Operator), h.As(api.Viewer)
		join := func(a client.Attaching, data []byte) error {
			_, err := operator.Attach(ctx, run.ID, a, bytes.NewReader(data))
			return err
		}
		good, late := pictureOf(t, 8, 6), 21601.0
		for about, err := range map[string]error{
			"the file is empty":           join(client.Attaching{Name: "x.png"}, nil),
			"none of what can be joined":  join(client.Attaching{Name: "x.png"}, []byte{0, 1, 2}),
			"damaged":                     join(client.Attaching{Name: "x.png"}, good[:len(good)-20]),
			"lies outside the run":        join(client.Attaching{Name: "x.png", T: &late}, good),
			"goes with pictures only":     join(client.Attaching{Scale: &api.ThermalScale{Hottest: 1}}, []byte("a,b\n")),
			"500 characters":              join(client.Attaching{Note: strings.Repeat("n", 501)}, good),
			"from \"40\" to \"20\" °C is": join(client.Attaching{Scale: &api.ThermalScale{Coldest: 40, Hottest: 20}}, good),
			"MB are the most":             join(client.Attaching{}, make([]byte, 12<<20+1)),
			"Too Large":                   join(client.Attaching{}, make([]byte, 12<<20+2)),
			"both say when it was":        join(client.Attaching{T: &late, Taken: time.Now()}, good),
		} {
			assert.ErrorContains(t, err, about)
		}
		_, err := viewer.Attach(ctx, run.ID, client.Attaching{}, bytes.NewReader(good))
		assert.ErrorContains(t, err, "this needs the role operator")
		all, err := h.Local.Attachments(ctx, run.ID)
		require.NoError(t, err)
		assert.Empty(t, all)

		require.NoError(t, join(client.Attaching{Name: "x.html"}, []byte("<script>alert(1)</script>")))
		request, err := http.NewRequestWithContext(ctx, http.MethodGet,
			h.Running.URL+"/api/v1/runs/"+run.ID+"/attachments/1", nil)
		require.NoError(t, err)
		request.Header.Set("Authorization", "Bearer "+h.Local.Token)
		response, err := h.HTTP().Do(request)
		require.NoError(t, err)
		defer response.Body.Close()
		assert.Contains(t, response.Header.Get("Content-Type"), "text/plain")
		assert.Equal(t, "nosniff", response.Header.Get("X-Content-Type-Options"))
		assert.Contains(t, response.Header.Get("Content-Disposition"), "attachment", "no browser shows it as a page")

		engineer := h.As(api.Engineer)
		assert.ErrorContains(t, operator.DropAttachment(ctx, run.ID, 1, "x"), "role engineer")
		assert.ErrorContains(t, engineer.DropAttachment(ctx, run.ID, 1, " "), "without a reason")
		assert.ErrorContains(t, engineer.DropAttachment(ctx, run.ID, 7, "x"), "Not found")
		require.NoError(t, engineer.DropAttachment(ctx, run.ID, 1, "another unit's"))
		entries, err := h.Running.Store.JournalEntries(store.JournalFilter{What: "attachment taken away"})
		require.NoError(t, err)
		require.Len(t, entries, 1)
		assert.Contains(t, entries[0].Detail, "another unit's")
		time.Sleep(time.Second) // simulated: the server lingers on connections whose body it would not read
	})
}

// A run has only so many bytes beside it: a store that is full of pictures holds no records.
func TestARunHasOnlySoMuchJoinedToIt(t *testing.T) {
	servicetest.Simulated(t, func(t *testing.T) {
		h := servicetest.Start(t, servicetest.Options{})
		run := sixHours(t, h.Running.Store)
		for k := range store.MostAttachments {
			_, err := h.Running.Store.Attach(run.ID, api.Attachment{T: float64(k), FileContents: api.FileContents{Size: 1}},
				[]byte("x"), nil)
			require.NoError(t, err)
		}
		_, err := h.Local.Attach(t.Context(), run.ID, client.Attaching{Name: "x"}, strings.NewReader("x"))
		assert.ErrorContains(t, err, "has too many attachments")
		require.NoError(t, h.Running.Store.DropAttachment(run.ID, store.MostAttachments, "not it"))
		_, err = h.Running.Store.Attach(run.ID, api.Attachment{FileContents: api.FileContents{Size: 300 << 20}}, nil, nil)
		require.ErrorIs(t, err, store.ErrTooMany)
		joined, err := h.Local.Attach(t.Context(), run.ID, client.Attaching{Name: "x"}, strings.NewReader("x"))
		require.NoError(t, err)
		assert.Equal(t, store.MostAttachments+1, joined.Number, "nobody gets the number of one that is gone")
	})
}
