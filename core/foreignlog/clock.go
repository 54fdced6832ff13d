package foreignlog

import (
	"fmt"
	"math"
	"strconv"
	"strings"
	"time"
)

// The forms of a date with a time. Of a date with strokes that begins with the day or the month, the month stands first
// where hours are counted to twelve.
var dateForms = []string{time.RFC3339Nano, "2006-01-02 15:04:05.999999999", "2006-01-02T15:04:05.999999999",
	"2006/01/02 15:04:05.999999999", "02.01.2006 15:04:05.999999999", "02/01/2006 15:04:05.999999999",
	"02-01-2006 15:04:05.999999999", "2006-01-02 15:04", "02.01.2006 15:04", "02/01/2006 15:04",
	"2006-01-02 3:04:05.999999999 PM", "1/2/2006 3:04:05.999999999 PM", "02.01.2006 3:04:05.999999999 PM",
	"1/2/2006 3:04 PM", "2006-01-02 3:04 PM", "20060102 15:04:05.999999999", "2 Jan 2006 15:04:05.999999999",
	"02-Jan-2006 15:04:05.999999999"}

// halfDay is by how much a clock goes back at least that passes midnight, s.
const halfDay = 43200.0

// clock reads hours:minutes:seconds, or a date with a time, s since the first.
func (r *reader) clock(text string) (float64, error) {
	written := strings.ToUpper(strings.Replace(text, ",", ".", 1))
	if at, ok := r.dated(written); ok {
		if !r.started {
			r.began = at
		}
		return at.Sub(r.began).Seconds(), nil
	}
	t, ok := hours(written)
	if !ok {
		return 0, &Error{r.line, fmt.Sprintf("%q is not a time; write it like 12:34:56, 1:34:56 PM or 2026-03-31 12:34:56",
			text)}
	}
	if r.started && t+r.days < r.lastTime-halfDay { // past midnight
		r.days += 86400
	}
	r.lastTime = t + r.days
	return r.lastTime, nil
}

// dated reads a date with a time, in the form of the row before where it has one.
func (r *reader) dated(text string) (at time.Time, ok bool) {
	if r.form != "" {
		if at, err := time.Parse(r.form, text); err == nil {
			return at, true
		}
	}
	for _, form := range dateForms {
		if at, err := time.Parse(form, text); err == nil {
			r.form = form
			return at, true
		}
	}
	return at, false
}

// hours reads a clock without a date, s.
func hours(text string) (float64, bool) {
	half, twelve := 0.0, false
	for word, add := range map[string]float64{"AM": 0, "PM": 12} {
		if rest, found := strings.CutSuffix(text, word); found {
			text, half, twelve = strings.TrimSpace(rest), add, true
		}
	}
	parts := strings.Split(text, ":")
	if len(parts) < 2 || len(parts) > 3 {
		return 0, false
	}
	t := 0.0
	for i, p := range parts {
		x, err := strconv.ParseFloat(p, 64)
		if err != nil || x < 0 || math.IsInf(x, 0) {
			return 0, false
		}
		if i == 0 && twelve {
			x = math.Mod(x, 12) + half
		}
		t = t*60 + x
	}
	if len(parts) == 2 {
		t *= 60 // hours and minutes
	}
	return t, true
}
