package archive

import (
	"strings"

	"usherbench/api"
	"usherbench/core/overlay"
)

// reference is the curve of the run that differences refer to, of one half.
func (l *laid) reference(half string) (reference overlay.Curve) {
	first := true
	for i, c := range l.curves {
		named := l.request.Reference != "" && strings.HasPrefix(l.infos[i].Run, l.request.Reference)
		if l.infos[i].Half == half && (first || named) {
			reference, first = c, false
		}
		if l.infos[i].Half == half && named {
			break
		}
	}
	return reference
}

// deviate has every curve be its deviation from the mean of its half, or from that of the reference. What has nothing
// in common with that is left out.
func (l *laid) deviate() {
	if l.request.Less == "" || len(l.curves) == 0 {
		return
	}
	from := map[string]overlay.Curve{}
	for i := range l.curves {
		half := l.infos[i].Half
		if _, known := from[half]; known {
			continue
		}
		from[half] = l.reference(half)
		if l.request.Less == api.LessMean {
			from[half] = l.mean(half)
		}
	}
	words := "from the mean"
	if l.request.Less == api.LessReference {
		words = "from " + from[l.infos[0].Half].Label
	}
	var curves []overlay.Curve
	var infos []api.OverlayCurve
	for i, c := range l.curves {
		if c = c.Deviation(from[l.infos[i].Half]); len(c.X) < 2 {
			l.out.Left = append(l.out.Left, api.OverlayLeft{Run: l.infos[i].Run, Label: c.Label,
				Why: "it has nothing in common with what the others are drawn less of"})
			continue
		}
		curves, infos = append(curves, c), append(infos, l.infos[i])
	}
	l.curves, l.infos = curves, infos
	l.out.YLabel = "deviation of " + l.out.YLabel + " " + words
}

// mean is the mean of the curves of one half, at places of their common range.
func (l *laid) mean(half string) overlay.Curve {
	var all []overlay.Curve
	for i, c := range l.curves {
		if l.infos[i].Half == half {
			all = append(all, c)
		}
	}
	band, err := overlay.BandOf(all, drawPlaces)
	if err != nil {
		return overlay.Curve{}
	}
	return overlay.Curve{X: band.X, Y: band.Mean}
}
