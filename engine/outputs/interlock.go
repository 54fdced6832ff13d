package outputs

import (
	"context"
	"fmt"
	"math"
	"slices"
	"time"

	"usherbench/api"
	"usherbench/core/seats"
)

// An output behind an interlock is on only while that reads closed. There is one way on, [Switchboard.Apply], which
// reads it anew before the output goes on; while it is on every reading tells how the interlock is, and
// [Sampler.Trouble] finds one that is open or that cannot be read. Whether the cover may be opened again is told by
// the volts alone.

// mostSafeVolts is below which volts a cover may be opened, V.
const mostSafeVolts = 30

// closed fails unless the interlock of every channel of a seat reads closed, asked just now.
func (x *Seat) closed(ctx context.Context) error {
	if !x.Kind.Locked() {
		return nil
	}
	for _, m := range x.Members {
		values := make([]float64, len(m.gives))
		attempt, cancel := context.WithTimeout(ctx, m.Dialect.Within)
		err := m.drive.Read(attempt, values)
		cancel()
		if err != nil {
			return fmt.Errorf("the interlock of %s cannot be read, so its output stays off: %w", m.Name, err)
		}
		if why := m.opened(values); why != "" {
			return fmt.Errorf("%s, so its output stays off; close the cover and start again", why)
		}
	}
	return nil
}

// opened says what is wrong with the interlock of a channel by its readings; empty: it is closed.
func (m *Member) opened(values []float64) string {
	i := slices.Index(m.gives, seats.Unlocked)
	switch {
	case i < 0 || math.IsNaN(values[i]):
		return fmt.Sprintf("the interlock of %s gives no reading", m.Name)
	case values[i] != 0:
		return fmt.Sprintf("the interlock of %s is open", m.Name)
	}
	return ""
}

// unlocked finds an interlock that does not read closed while its output may be on. What was asked for before the
// output went on says nothing: then the interlock was asked by itself.
func (x *Seat) unlocked() string {
	if !x.Kind.Locked() || !x.Energised() {
		return ""
	}
	since := x.onSince.Load()
	for _, m := range x.Members {
		m.reading.mu.Lock()
		why := ""
		if !m.reading.at.IsZero() && m.reading.err == nil && m.reading.began.UnixNano() > since {
			why = m.opened(m.reading.values)
		}
		m.reading.mu.Unlock()
		if why != "" {
			return why + " while its output is on"
		}
	}
	return ""
}

// Cover tells whether what stands behind the interlocks of a bay may be opened; nil where nothing does. It may when
// every output behind one is confirmed off, and its volts were read within a time and are harmless.
func (s *Switchboard) Cover(within time.Duration) *api.Cover {
	var cover *api.Cover
	for _, x := range s.seats {
		if !x.Kind.Locked() {
			continue
		}
		if cover == nil {
			cover = &api.Cover{SafeToOpen: true}
		}
		for _, m := range x.Members {
			volts, fresh := m.Newest("volts", within)
			switch {
			case x.Energised():
				refuse(cover, x.Name+" may be on")
			case !fresh || math.IsNaN(volts):
				refuse(cover, "the volts of "+x.Name+" are not known")
			case math.Abs(volts) >= mostSafeVolts:
				refuse(cover, fmt.Sprintf("%s still reads %.0f V", x.Name, volts))
			}
			if fresh && !math.IsNaN(volts) && (cover.Volts == nil || math.Abs(volts) > math.Abs(*cover.Volts)) {
				cover.Volts = &volts
			}
		}
	}
	return cover
}

// refuse says why a cover may not be opened; what was said first stands.
func refuse(c *api.Cover, why string) {
	c.SafeToOpen = false
	if c.Why == "" {
		c.Why = why
	}
}
