package engine

import (
	"fmt"
	"time"

	"golang.org/x/sys/unix"

	"usherbench/core/quantity"
)

// rates warns of instruments that are slower than the record asks for.
func (p *preflight) rates() {
	every := p.program.Fastest() / p.bay.engine.timeFactor
	for _, m := range p.bay.sampler.Members() {
		// The median, so that a hiccup of a busy computer is not taken for the instrument's pace.
		usual := m.Trace().Statistics().Median * time.Duration(len(m.Dialect.Read))
		if usual.Seconds() > every {
			p.warns("rate", "record less often, or expect gaps between its readings",
				"%s takes %d ms for a reading, but frames are recorded every %s", m.Name,
				usual.Milliseconds(), show(p.program.Fastest(), quantity.Time))
		}
	}
}

// disk checks that the samples to come have room.
func (p *preflight) disk() {
	folder := p.bay.engine.options.Data
	if folder == "" {
		return
	}
	var fs unix.Statfs_t
	if err := unix.Statfs(folder, &fs); err != nil {
		p.warns("disk", "check the data folder", "the free space of %s cannot be told: %s", folder, err)
		return
	}
	_, most := p.program.RunsFor()
	need := most / p.program.Fastest() * float64(len(p.bay.sampler.Columns)) * bytesPerValue
	free := float64(fs.Bavail) * float64(fs.Bsize)
	words := fmt.Sprintf("the record needs about %s, %s are free", megabytes(need), megabytes(free))
	switch {
	case free < need+spareBytes:
		p.blocks("disk", "make room on the disk of the data folder, or record less often", "%s", words)
	case free < 4*(need+spareBytes):
		p.warns("disk", "make room on the disk of the data folder soon", "%s", words)
	default:
		p.fine("disk", "%s", words)
	}
}

func megabytes(bytes float64) string {
	if bytes < 1e9 {
		return quantity.Sprintf("%.3g MB", bytes/1e6)
	}
	return quantity.Sprintf("%.3g GB", bytes/1e9)
}
