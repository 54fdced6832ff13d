package simbench

import (
	"os"

	"golang.org/x/sys/unix"
)

// raw makes a terminal pass every byte as it is.
func raw(f *os.File) error {
	t, err := unix.IoctlGetTermios(int(f.Fd()), unix.TCGETS)
	if err != nil {
		return err
	}
	t.Iflag, t.Oflag, t.Lflag = 0, 0, 0
	t.Cc[unix.VMIN], t.Cc[unix.VTIME] = 1, 0
	return unix.IoctlSetTermios(int(f.Fd()), unix.TCSETS, t)
}
