package report

import (
	"fmt"
	"strings"

	"usherbench/api"
	"usherbench/store"
)

// Attached is a picture or file of a run, with the picture as a report shows it.
type Attached struct {
	api.Attachment
	Drawn []byte // JPEG; nil: it is no picture
}

// CollectAttached reads what was joined to a run, for a report.
func CollectAttached(s *store.Store, doc api.Run) ([]Attached, error) {
	out := make([]Attached, len(doc.Attachments))
	for i, a := range doc.Attachments {
		out[i] = Attached{Attachment: a}
		if !a.Picture() {
			continue
		}
		var err error
		if _, out[i].Drawn, err = s.Attachment(doc.ID, a.Number, true); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// Contents says what an attachment is, for people.
func Contents(a api.Attachment) string {
	words := map[string]string{"image/jpeg": "JPEG", "image/png": "PNG", "image/webp": "WebP", "application/pdf": "PDF",
		"text/plain": "text", "text/csv": "CSV"}
	is := orWord(words[a.Type], a.Type)
	if a.Picture() {
		is += fmt.Sprintf(" %d × %d", a.Width, a.Height)
	}
	if a.Scale != nil {
		is += ", " + scaleWords(*a.Scale)
	}
	return is
}

func scaleWords(s api.ThermalScale) string { return fmt.Sprintf("%g to %g °C", s.Coldest, s.Hottest) }

// attached shows the pictures of a run over its time, and lists its files.
func (p page) attached(all []Attached) {
	if len(all) == 0 {
		return
	}
	p.section("Pictures and files")
	var photos []photo
	var files []Attached
	for _, a := range all {
		if a.Drawn == nil {
			files = append(files, a)
			continue
		}
		about := []string{p.look.number(Seconds(a.T)), a.By}
		if a.Scale != nil {
			about = append(about, p.look.number(scaleWords(*a.Scale)))
		}
		photos = append(photos, photo{a.Drawn, orWord(a.Note, a.Name), strings.Join(about, ", ")})
	}
	p.photos(photos)
	for _, a := range files {
		p.row([]cell{{fmt.Sprint(a.Number), 8, "R", mutedColor, false}, {a.Name, 60, "L", inkColor, false},
			{Seconds(a.T), 24, "R", inkColor, false}, {Contents(a.Attachment), 24, "L", inkColor, false},
			{a.Note, 58, "L", inkColor, false}}, 6)
	}
	p.gap(3)
}
