// Package catalogue says which kinds of stages and which families of figures there are, and is the one list of them.
// Whoever reads procedures or computes figures asks it; the rest of core knows no list.
package catalogue

import (
	"sync"

	"usherbench/core/document"
	"usherbench/core/figure"
	"usherbench/core/figure/amplifier"
	"usherbench/core/figure/backup"
	"usherbench/core/figure/basics"
	"usherbench/core/figure/battery"
	"usherbench/core/figure/capture"
	"usherbench/core/figure/charger"
	"usherbench/core/figure/converter"
	"usherbench/core/figure/device"
	"usherbench/core/figure/drain"
	"usherbench/core/figure/harness"
	"usherbench/core/figure/machine"
	"usherbench/core/figure/mains"
	"usherbench/core/figure/panel"
	"usherbench/core/figure/rows"
	"usherbench/core/kinds"
	"usherbench/core/nameplate"
	"usherbench/core/procedure"
)

// Stages are the kinds of stages that do something; those that hold other stages are part of the language.
func Stages() []procedure.Kind {
	return []procedure.Kind{
		kinds.SetKind, kinds.HoldKind, kinds.RestKind, kinds.WatchKind, kinds.GridKind, kinds.PlayKind, kinds.SeekKind,
		kinds.AcquireKind, kinds.CaptureKind, kinds.AskKind, kinds.SignalKind, kinds.ChargeKind, kinds.DischargeKind,
		kinds.ContractKind, kinds.WithstandKind, kinds.WiringKind,
	}
}

// Figures are the figures that there are. Nobody changes what it gives: it is put together once.
func Figures() figure.Catalogue { return figures() }

var figures = sync.OnceValue(func() figure.Catalogue {
	return figure.NewCatalogue(basics.Figures, converter.Figures, rows.Figures, capture.Figures, battery.Figures,
		charger.Figures, charger.Contracted, mains.Figures, backup.Figures,
		panel.Figures, device.Figures, machine.Figures, harness.Figures, drain.Figures,
		amplifier.Figures)
})

// Language is what a procedure may say.
func Language() procedure.Language { return procedure.Language{Kinds: Stages(), Figures: Figures()} }

// Parse checks a procedure and resolves it; see [procedure.Language.Parse].
func Parse(text []byte, plate *nameplate.Nameplate, values map[string]string,
	library procedure.Library) (*procedure.Program, error) {
	return Language().Parse(text, plate, values, library)
}

// Draft reads a procedure that may still have mistakes; see [procedure.Language.Draft].
func Draft(text []byte, plate *nameplate.Nameplate, values map[string]string,
	library procedure.Library) (*procedure.Program, document.Findings) {
	return Language().Draft(text, plate, values, library)
}
