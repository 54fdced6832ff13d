package archive

import (
	"errors"
	"fmt"

	"usherbench/api"
	"usherbench/store"
)

// ErrNotReleased means that operators may not run a revision.
var ErrNotReleased = errors.New("it is not released")

// OfficeSetting is the name of what the office has set in the store.
const OfficeSetting = "office"

// RevisionFor is the revision of a procedure that is run when somebody asks for one; 0 is the newest. Engineers run
// drafts too. Operators run the newest released one where there is one, and others only while the office does not ask
// for releases. It fails with ErrNotReleased.
func RevisionFor(s *store.Store, procedure string, asked int, drafts bool) (int, error) {
	if drafts {
		return asked, nil
	}
	released, err := s.Released(procedure)
	if err != nil {
		return 0, err
	}
	if asked > 0 && released > 0 {
		r, err := s.Revision(procedure, asked)
		if err != nil {
			return 0, err
		}
		if r.ReleasedBy != "" {
			return asked, nil
		}
		return 0, fmt.Errorf("%w: revision %d of %s is a draft; revision %d is released", ErrNotReleased, asked, procedure,
			released)
	}
	if released > 0 {
		return released, nil
	}
	var office api.Office
	if err := s.Setting(OfficeSetting, &office); err != nil {
		return 0, err
	}
	if office.OnlyReleased {
		return 0, fmt.Errorf("%w: %s has no released revision, and operators run no others", ErrNotReleased, procedure)
	}
	return asked, nil
}
