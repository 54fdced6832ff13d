package bench

import (
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"sync"
	"syscall"

	"usherbench/instrument/transport"
)

// holds keep the places of this bench's instruments from every other service on the computer: two of them at one
// supply would each switch what the other believes to know. A place is held by a lock on a file, which ends with the
// process whatever becomes of it.
type holds struct {
	mu     sync.Mutex // guards what follows
	all    map[string]*hold
	places map[string]string // of the addresses that are held, as they were then
}

type hold struct {
	file  *os.File
	users int // of this bench: an instrument that is opened anew overlaps itself
}

// locksFolder is where the locks of all services of the computer are.
func locksFolder() string { return filepath.Join(os.TempDir(), "usher-bench-places") }

// take holds the place of an address.
func (h *holds) take(a transport.Address) error {
	h.mu.Lock()
	defer h.mu.Unlock()
	place := a.Place()
	h.places[a.String()] = place
	if one := h.all[place]; one != nil {
		one.users++
		return nil
	}
	file, err := lockPlace(place)
	if err != nil {
		return fmt.Errorf("%s: %w", a, err)
	}
	h.all[place] = &hold{file, 1}
	return nil
}

// give gives the place of an address back, with its last user.
func (h *holds) give(a transport.Address) {
	h.mu.Lock()
	defer h.mu.Unlock()
	place := h.places[a.String()]
	one := h.all[place]
	if one == nil {
		return
	}
	if one.users--; one.users == 0 {
		_ = one.file.Close() // the lock ends with it
		delete(h.all, place)
	}
}

// end gives up everything at once, as the end of a process does.
func (h *holds) end() {
	h.mu.Lock()
	defer h.mu.Unlock()
	for place, one := range h.all {
		_ = one.file.Close() // the lock ends with it
		delete(h.all, place)
	}
}

// ErrElsewhere means that another service of this computer uses an instrument.
var ErrElsewhere = errors.New("another service on this computer uses it; stop that one, or take the instrument out " +
	"of one of them")

func lockPlace(place string) (*os.File, error) {
	folder := locksFolder()
	if err := os.MkdirAll(folder, 0o777); err != nil {
		return nil, fmt.Errorf("locks of instruments: %w", err)
	}
	_ = os.Chmod(folder, 0o777|os.ModeSticky) // other users of the computer see the locks too; it may be theirs
	sum := sha256.Sum256([]byte(place))
	name := filepath.Join(folder, hex.EncodeToString(sum[:8]))
	file, err := os.Open(name) // which may be another user's
	if errors.Is(err, fs.ErrNotExist) {
		file, err = os.OpenFile(name, os.O_CREATE|os.O_RDONLY, 0o666)
	}
	if err != nil {
		return nil, fmt.Errorf("locks of instruments: %w", err)
	}
	if err := syscall.Flock(int(file.Fd()), syscall.LOCK_EX|syscall.LOCK_NB); err != nil {
		_ = file.Close() // the first error counts
		return nil, ErrElsewhere
	}
	return file, nil
}
