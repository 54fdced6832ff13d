package archive

import (
	"strings"

	"usherbench/api"
	"usherbench/core/overlay"
)

// kind is what of runs may be held against each other: the same half, in the same contract.
type kind struct {
	half     string
	contract int
}

func kindOf(c api.OverlayCurve) kind { return kind{c.Half, c.Contract} }

// reference is the curve of the run that differences refer to, of one kind.
func (l *laid) reference(of kind) (reference overlay.Curve) {
	first := true
	for i, c := range l.curves {
		named := l.request.Reference != "" && strings.HasPrefix(l.infos[i].Run, l.request.Reference)
		if kindOf(l.infos[i]) == of && (first || named) {
			reference, first = c, false
		}
		if kindOf(l.infos[i]) == of && named {
			break
		}
	}
	return reference
}

// deviate has every curve be its deviation from the mean of its kind, or from that of the reference. What has nothing
// in common with that is left out.
func (l *laid) deviate() {
	if l.request.Less == "" || len(l.curves) == 0 {
		return
	}
	from := map[kind]overlay.Curve{}
	for i := range l.curves {
		of := kindOf(l.infos[i])
		if _, known := from[of]; known {
			continue
		}
		from[of] = l.reference(of)
		if l.request.Less == api.LessMean {
			from[of] = l.mean(of)
		}
	}
	words := "from the mean"
	switch {
	case l.request.Less == api.LessReference && l.severalContracts():
		words = "from " + l.infos[0].Serial
	case l.request.Less == api.LessReference:
		words = "from " + from[kindOf(l.infos[0])].Label
	}
	var curves []overlay.Curve
	var infos []api.OverlayCurve
	for i, c := range l.curves {
		if c = c.Deviation(from[kindOf(l.infos[i])]); len(c.X) < 2 {
			l.out.Left = append(l.out.Left, api.OverlayLeft{Run: l.infos[i].Run, Label: c.Label,
				Why: "it has nothing in common with what the others are drawn less of"})
			continue
		}
		curves, infos = append(curves, c), append(infos, l.infos[i])
	}
	l.curves, l.infos = curves, infos
	l.out.YLabel = "deviation of " + l.out.YLabel + " " + words
}

// mean is the mean of the curves of one kind, at places of their common range.
func (l *laid) mean(of kind) overlay.Curve {
	var all []overlay.Curve
	for i, c := range l.curves {
		if kindOf(l.infos[i]) == of {
			all = append(all, c)
		}
	}
	band, err := overlay.BandOf(all, drawPlaces)
	if err != nil {
		return overlay.Curve{}
	}
	return overlay.Curve{X: band.X, Y: band.Mean}
}
