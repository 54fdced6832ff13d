package api

import "time"

// RunFilter chooses runs; empty fields choose all.
type RunFilter struct {
	Bay, Serial, Lot, Procedure, Outcome, State string
	// Since leaves out runs that began before this time.
	Since time.Time
	// Before continues a list: only runs that began before this one's id.
	Before string
	// Limit is how many; 0: a hundred.
	Limit int
}

// Chosen is one text by which runs are chosen.
type Chosen struct {
	// Name is that of the column on record, of the parameter of the API and of the flag of the command line.
	Name string
	// About completes "only …".
	About string
	// Value is where the text stands.
	Value *string
}

// Texts are the texts by which runs are chosen: the one list from which service, client, store and command line take
// them. A new one is a field, a line here, and a parameter in the document of the API.
func (f *RunFilter) Texts() []Chosen {
	return []Chosen{
		{"bay", "this bay", &f.Bay},
		{"serial", "this unit", &f.Serial},
		{"lot", "this lot", &f.Lot},
		{"procedure", "this procedure", &f.Procedure},
		{"outcome", "pass, marginal, fail, aborted or undetermined", &f.Outcome},
		{"state", "live, done, failed or aborted", &f.State},
	}
}
