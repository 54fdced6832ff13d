package transport

import (
	"bufio"
	"context"
	"errors"
	"os"
	"testing"
	"time"

	"github.com/creack/pty"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
)

func TestAddresses(t *testing.T) {
	for text, want := range map[string]Address{
		"tcp://192.168.1.20:5025":      {Scheme: TCP, Host: "192.168.1.20:5025"},
		"tcp://[fe80::1]:5025":         {Scheme: TCP, Host: "[fe80::1]:5025"},
		"modbus-tcp://10.0.0.3":        {Scheme: ModbusTCP, Host: "10.0.0.3:502", Unit: 1},
		"modbus-tcp://10.0.0.3?unit=9": {Scheme: ModbusTCP, Host: "10.0.0.3:502", Unit: 9},
		"usbtmc:///dev/usbtmc0":        {Scheme: USBTMC, Path: "/dev/usbtmc0"},
		"serial:///dev/ttyUSB0?baud=19200&parity=even&stop=2&data=7&flow=rts-cts": {Scheme: Serial, Path: "/dev/ttyUSB0",
			Line: LineMode{19200, 7, "even", "2", "rts-cts"}},
		"modbus-rtu:///dev/ttyS1?unit=3": {Scheme: ModbusRTU, Path: "/dev/ttyS1",
			Unit: 3},
		"hislip://192.168.1.20":       {Scheme: HiSLIP, Host: "192.168.1.20:4880", Path: "/hislip0"},
		"hislip://lab-3:4881/hislip1": {Scheme: HiSLIP, Host: "lab-3:4881", Path: "/hislip1"},
		"vxi11://192.168.1.20/gpib0,7?lock=yes": {Scheme: VXI11, Host: "192.168.1.20:111", Path: "/gpib0,7", Mapped: true,
			Lock: true},
		"vxi11://h/inst0?portmapper=1111": {Scheme: VXI11, Host: "h:1111", Path: "/inst0", Mapped: true},
		"vxi11://[fe80::1]:1024/inst0":    {Scheme: VXI11, Host: "[fe80::1]:1024", Path: "/inst0"},
		"memory://supply1":                {Scheme: Memory, As: TCP, Host: "supply1"},
		"memory://line1?as=modbus-rtu&unit=3&baud=115200": {Scheme: Memory, As: ModbusRTU, Host: "line1", Unit: 3,
			Line: LineMode{115200, 8, "none", "1", "none"}},
	} {
		a, err := Parse(text)
		require.NoError(t, err, text)
		assert.Equal(t, text, a.String())
		if want.As == "" {
			want.As = want.Scheme
		}
		if want.Line == (LineMode{}) {
			want.Line = a.Line
		}
		want.text = text
		assert.Equal(t, want, a)
	}
	for text, want := range map[string]string{
		"":                                    "write it like tcp://",
		"ftp://x:1":                           `the transport "ftp" is not known; did you mean "tcp"?`,
		"tcp://x":                             "a host and a port are needed",
		"tcp://x:99999":                       "a host and a port are needed",
		"tcp://x:5?baud=9600":                 `"baud" is no option of tcp`,
		"serial://dev/ttyUSB0":                "with three slashes",
		"serial:///dev/ttyUSB0?speed=9600":    `"speed" is no option of serial`,
		"serial:///dev/ttyUSB0?parity=uneven": `parity=uneven is not possible`,
		"serial:///dev/ttyUSB0?baud=fast":     "here belongs a whole number from 50",
		"modbus-rtu:///dev/ttyUSB0":           "the instrument's number on the line is missing",
		"modbus-rtu:///dev/ttyUSB0?unit=0":    "unit=0 is the broadcast",
		"modbus-rtu:///dev/ttyUSB0?unit=248":  "from 1 to 247",
		"hislip:///hislip0":                   "a host and one of its parts are needed, like hislip://",
		"hislip://h/a/b":                      "a host and one of its parts are needed",
		"vxi11://h/inst0?lock=perhaps":        "lock=perhaps is not possible",
		"vxi11://h/inst0?portmapper=0":        "a host and one of its parts are needed",
		"tcp://h:5025?lock=yes":               `"lock" is no option of tcp`,
		"memory:///supply1":                   "the name of a part of this process is needed",
		"memory://line1?as=usbtmc":            "as=usbtmc is not possible",
		"memory://line1?as=modbus-rtu":        "the instrument's number on the line is missing",
		"modbus-tcp://x?unit=0":               "unit=0 is the broadcast",
		"usbtmc:///dev/usbtmc0?baud=1":        `"baud" is no option of usbtmc`,
	} {
		_, err := Parse(text)
		assert.ErrorContains(t, err, want, text)
	}
}

// stand is the far end of a pseudo-terminal in raw mode: it answers every line with a text.
func stand(t *testing.T, answer func(line string) string) (path string) {
	t.Helper()
	master, slave, err := pty.Open()
	require.NoError(t, err)
	t.Cleanup(func() { master.Close(); slave.Close() })
	mode, err := unix.IoctlGetTermios(int(slave.Fd()), unix.TCGETS)
	require.NoError(t, err)
	mode.Iflag, mode.Oflag, mode.Lflag = 0, 0, 0
	require.NoError(t, unix.IoctlSetTermios(int(slave.Fd()), unix.TCSETS, mode))
	go func() {
		lines := bufio.NewScanner(master)
		for lines.Scan() {
			_, _ = master.WriteString(answer(lines.Text()))
		}
	}()
	return slave.Name()
}

func exchange(t *testing.T, l Link, message string) string {
	t.Helper()
	if turns, ok := l.(Turns); ok {
		release, err := turns.Turn(context.Background())
		require.NoError(t, err)
		defer release()
	}
	require.NoError(t, l.SetDeadline(time.Now().Add(5*time.Second)))
	_, err := l.Write([]byte(message + "\n"))
	require.NoError(t, err)
	line, err := bufio.NewReader(l).ReadString('\n')
	require.NoError(t, err)
	return line
}

func echo(line string) string { return "got " + line + "\n" }

func TestASerialLineIsReadAndWritten(t *testing.T) {
	for _, flow := range []string{"none", "rts-cts", "xon-xoff"} {
		a, err := Parse("serial://" + stand(t, echo) + "?baud=115200&flow=" + flow)
		require.NoError(t, err)
		l, err := Open(context.Background(), a)
		require.NoError(t, err)
		assert.Equal(t, "got *IDN?\n", exchange(t, l, "*IDN?"), flow)
		require.NoError(t, l.SetDeadline(time.Now().Add(30*time.Millisecond)))
		_, err = l.Read(make([]byte, 10))
		assert.True(t, errors.Is(err, os.ErrDeadlineExceeded), "silence ends with the deadline: %v", err)
		require.NoError(t, l.Close())
	}
}

func TestTwoOnALineMustAgreeOnIt(t *testing.T) {
	path := stand(t, echo)
	first, err := Parse("serial://" + path + "?baud=9600")
	require.NoError(t, err)
	l, err := Open(context.Background(), first)
	require.NoError(t, err)
	defer l.Close()
	second, err := Parse("serial://" + path + "?baud=19200")
	require.NoError(t, err)
	_, err = Open(context.Background(), second)
	assert.ErrorContains(t, err, "another instrument uses this line with 9600 baud")
	same, err := Open(context.Background(), first)
	require.NoError(t, err)
	assert.Equal(t, "got A\n", exchange(t, l, "A"))
	assert.Equal(t, "got B\n", exchange(t, same, "B"))
	require.NoError(t, same.Close())
	assert.Equal(t, "got C\n", exchange(t, l, "C"), "the port stays open for the other")

	release, err := l.(Turns).Turn(context.Background())
	require.NoError(t, err)
	ctx, cancel := context.WithTimeout(context.Background(), 20*time.Millisecond)
	defer cancel()
	again, err := Open(context.Background(), first)
	require.NoError(t, err)
	_, err = again.(Turns).Turn(ctx)
	assert.ErrorContains(t, err, "the line was busy with other instruments")
	release()
	require.NoError(t, again.Close())
}

// The kernel's USB devices are stood in for by a pseudo-terminal, which shares their reads and writes but not
// their messages' ends.
func TestAUSBDevice(t *testing.T) {
	a, err := Parse("usbtmc://" + stand(t, func(line string) string {
		switch line {
		case "*IDN?":
			return "Usher Bench,SIM-S2" // without a line feed: the device knows where an answer ends
		case "SLEEP?":
			return ""
		}
		return "15.0\n"
	}))
	require.NoError(t, err)
	l, err := Open(context.Background(), a)
	require.NoError(t, err)
	assert.Equal(t, "15.0\n", exchange(t, l, "MEAS:VOLT?"))
	assert.Equal(t, "Usher Bench,SIM-S2\n", exchange(t, l, "*IDN?"))
	require.NoError(t, l.SetDeadline(time.Now().Add(30*time.Millisecond)))
	_, err = l.Write([]byte("SLEEP?\n"))
	require.NoError(t, err)
	_, err = l.Read(make([]byte, 10))
	assert.True(t, errors.Is(err, os.ErrDeadlineExceeded))
	require.NoError(t, l.Close())
	_, err = Open(context.Background(), Address{Scheme: USBTMC, Path: "/dev/there-is-none"})
	assert.Error(t, err)
}

func FuzzParse(f *testing.F) {
	for _, example := range examples {
		f.Add(example)
	}
	f.Fuzz(func(t *testing.T, text string) {
		if a, err := Parse(text); err == nil && a.Scheme == "" {
			t.Errorf("%q became an address without a scheme", text)
		}
	})
}
