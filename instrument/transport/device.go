package transport

import (
	"fmt"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
)

// An address names a file that is opened, read and written. Whoever may write addresses is not allowed to open any file
// by that: only devices of instruments, where the computer has them.

// places are where character devices of instruments are, after links were followed: serial ports of all kinds, USB
// instruments, and the pseudo-terminals at which stand-ins are.
var places = []string{"/dev/ttyS*", "/dev/ttyUSB*", "/dev/ttyACM*", "/dev/ttyAMA*", "/dev/ttyXR*", "/dev/ttyO*",
	"/dev/ttymxc*", "/dev/ttyGS*", "/dev/rfcomm*", "/dev/usbtmc*", "/dev/pts/*"}

// device follows links to the device of an address, and refuses what is none of an instrument.
func device(name string) (string, error) {
	real, err := filepath.EvalSymlinks(name)
	if err != nil {
		return "", err
	}
	info, err := os.Stat(real)
	if err != nil {
		return "", err
	}
	known := slices.ContainsFunc(places, func(pattern string) bool {
		matches, err := path.Match(pattern, real)
		return err == nil && matches
	})
	if !known || info.Mode()&fs.ModeCharDevice == 0 {
		return "", fmt.Errorf("%s is no serial port and no USB instrument; look for them with: usher bench scan --serial",
			real)
	}
	return real, nil
}
