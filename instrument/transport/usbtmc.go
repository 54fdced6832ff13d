package transport

import (
	"fmt"
	"os"
	"time"

	"golang.org/x/sys/unix"
)

// usbtmcLink is the kernel's character device of a USB test-and-measurement instrument. Each write is one
// message; a read returns at most one answer, whose end the device knows without a terminator.
type usbtmcLink struct {
	file     *os.File
	address  Address
	deadline time.Time
	reads    chan usbtmcRead
	reading  bool // a read is under way that came too late
}

type usbtmcRead struct {
	data []byte
	err  error
}

// usbtmcSetTimeout is USBTMC_IOCTL_SET_TIMEOUT of linux/usb/tmc.h: _IOW(91, 10, __u32), in ms.
const usbtmcSetTimeout = 0x40045b0a

// leastTimeout is the shortest that the driver takes.
const leastTimeout = 100 * time.Millisecond

func openUSBTMC(a Address) (Link, error) {
	// Blocking, since the driver's reads and writes are bounded by its own timeout.
	path, err := device(a.Path)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", a, err)
	}
	fd, err := unix.Open(path, unix.O_RDWR|unix.O_NOCTTY|unix.O_CLOEXEC, 0)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", a, err)
	}
	return &usbtmcLink{file: os.NewFile(uintptr(fd), a.Path), address: a, reads: make(chan usbtmcRead, 1)}, nil
}

func (u *usbtmcLink) SetDeadline(t time.Time) error {
	u.deadline = t
	if left := time.Until(t); !t.IsZero() {
		// A stand-in that is no USB device does not know the call; the deadline is kept here all the same.
		_ = unix.IoctlSetPointerInt(int(u.file.Fd()), usbtmcSetTimeout, int(max(left, leastTimeout).Milliseconds()))
	}
	return nil
}

func (u *usbtmcLink) Write(p []byte) (int, error) { return u.file.Write(p) }

func (u *usbtmcLink) Read(p []byte) (int, error) {
	if !u.reading {
		u.reading = true
		go func() {
			buffer := make([]byte, len(p))
			n, err := u.file.Read(buffer)
			u.reads <- usbtmcRead{buffer[:n], err}
		}()
	}
	var late <-chan time.Time
	if !u.deadline.IsZero() {
		timer := time.NewTimer(time.Until(u.deadline))
		defer timer.Stop()
		late = timer.C
	}
	select {
	case r := <-u.reads:
		u.reading = false
		// An answer that ends without a line feed has ended all the same: the read would have been filled otherwise.
		if n := len(r.data); r.err == nil && n > 0 && n < len(p) && r.data[n-1] != '\n' {
			r.data = append(r.data, '\n')
		}
		return copy(p, r.data), r.err
	case <-late:
		return 0, os.ErrDeadlineExceeded
	}
}

func (u *usbtmcLink) Close() error { return u.file.Close() }
