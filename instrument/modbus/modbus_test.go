package modbus

import (
	"bufio"
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"math"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/creack/pty"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"usherbench/instrument/transport"
	"usherbench/instrument/wire"
)

func unhex(t testing.TB, s string) []byte {
	b, err := hex.DecodeString(strings.ReplaceAll(s, " ", ""))
	require.NoError(t, err)
	return b
}

// The examples of the MODBUS Application Protocol V1.1b3, chapters 6.3, 6.4, 6.6 and 6.12.
func TestTheStandardsExamples(t *testing.T) {
	for name, c := range map[string]struct {
		asked         []byte
		wantAsked     string
		answer        string
		wantRegisters []uint16
	}{
		"read holding registers 108 to 110": {request(ReadHolding, 107, 3), "03 00 6B 00 03", "03 06 02 2B 00 00 00 64",
			[]uint16{555, 0, 100}},
		"read input register 9": {request(ReadInput, 8, 1), "04 00 08 00 01", "04 02 00 0A", []uint16{10}},
		"write register 2":      {request(WriteOne, 1, 3), "06 00 01 00 03", "06 00 01 00 03", nil},
		"write two registers from 2": {request(WriteSeveral, 1, 0x000A, 0x0102), "10 00 01 00 02 04 00 0A 01 02",
			"10 00 01 00 02", nil},
	} {
		assert.Equal(t, unhex(t, c.wantAsked), c.asked, name)
		got, err := answerTo(c.asked, unhex(t, c.answer))
		require.NoError(t, err, name)
		assert.Equal(t, c.wantRegisters, got, name)
	}
}

func TestChecksumOfTheStandard(t *testing.T) {
	// MODBUS over Serial Line V1.02, appendix B: the message 02 07 has the checksum 0x1241, sent low byte first.
	assert.Equal(t, uint16(0x1241), checksum([]byte{0x02, 0x07}))
	assert.Equal(t, []byte{0x02, 0x07, 0x41, 0x12}, sealRTU(2, []byte{7}))
}

func TestWhatIsNoAnswerIsRefused(t *testing.T) {
	asked := request(ReadHolding, 107, 3)
	for answer, want := range map[string]error{
		"03":                      ErrShort,
		"04 06 02 2B 00 00 00 64": ErrForeign,
		"03 04 02 2B 00 00":       ErrForeign,
		"03 06 02 2B 00 00":       ErrForeign,
	} {
		_, err := answerTo(asked, unhex(t, answer))
		assert.ErrorIs(t, err, want, answer)
	}
	_, err := answerTo(asked, []byte{0x83, 2})
	var refused *Exception
	require.ErrorAs(t, err, &refused)
	assert.ErrorContains(t, err, "exception 2: illegal register address")
	_, err = answerTo(request(WriteOne, 1, 3), unhex(t, "06 00 01 00 04"))
	assert.ErrorIs(t, err, ErrForeign, "an echo that differs")

	frame := sealRTU(3, []byte{3, 2, 0, 5})
	_, err = openRTU(4, frame)
	assert.ErrorIs(t, err, ErrForeign, "another unit")
	frame[3] ^= 1
	_, err = openRTU(3, frame)
	assert.ErrorIs(t, err, ErrChecksum)
}

func TestNumbersFillRegisters(t *testing.T) {
	for _, c := range []struct {
		form Form
		x    float64
		want []uint16
	}{
		{Form{As: "uint16"}, 65535, []uint16{0xFFFF}}, {Form{As: "int16"}, -2, []uint16{0xFFFE}},
		{Form{As: "uint32"}, 70000, []uint16{1, 4464}},
		{Form{As: "uint32", LowFirst: true}, 70000, []uint16{4464, 1}}, {Form{As: "int32"}, -1, []uint16{0xFFFF, 0xFFFF}},
		{Form{As: "float32"}, 1.5, []uint16{0x3FC0, 0}}, {Form{As: "float64"}, -2, []uint16{0xC000, 0, 0, 0}},
	} {
		words, err := c.form.Encode(c.x)
		require.NoError(t, err)
		assert.Equal(t, c.want, words, "%v", c.form)
		assert.Equal(t, c.x, c.form.Decode(words), "%v", c.form)
	}
	for _, c := range []struct {
		as string
		x  float64
	}{{"uint16", 65536}, {"uint16", -1}, {"int16", 40000}, {"int32", 3e9}, {"float32", math.NaN()}} {
		_, err := Form{As: c.as}.Encode(c.x)
		assert.ErrorContains(t, err, "does not fit", "%s %g", c.as, c.x)
	}
}

// reference starts the server of libmodbus; its first line says where it is, or that it is ready.
func reference(t *testing.T, args ...string) string {
	t.Helper()
	binary := filepath.Join(t.TempDir(), "server")
	out, err := exec.Command("cc", "-o", binary, "testdata/server.c", "-lmodbus").CombinedOutput()
	require.NoError(t, err, "%s; run make tools", out)
	cmd := exec.Command(binary, args...)
	stdout, err := cmd.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, cmd.Start())
	t.Cleanup(func() { _ = cmd.Process.Kill(); _ = cmd.Wait() })
	line, err := bufio.NewReader(stdout).ReadString('\n')
	require.NoError(t, err)
	return strings.TrimSpace(line)
}

func open(t *testing.T, address string) *Client {
	t.Helper()
	a, err := transport.Parse(address)
	require.NoError(t, err)
	c := New(a, 500*time.Millisecond, 0)
	t.Cleanup(func() { c.Close() })
	return c
}

// exercise reads, writes and is refused, as the reference server's map has it.
func exercise(t *testing.T, c *Client) {
	ctx := context.Background()
	words, err := c.Read(ctx, false, 5, 3)
	require.NoError(t, err)
	assert.Equal(t, []uint16{1005, 1006, 1007}, words)
	words, err = c.Read(ctx, true, 0, 1)
	require.NoError(t, err)
	assert.Equal(t, []uint16{2000}, words)
	require.NoError(t, c.Write(ctx, 10, false, 42))
	require.NoError(t, c.Write(ctx, 11, false, 43, 44))
	require.NoError(t, c.Write(ctx, 13, true, 45), "one register with function 16")
	words, err = c.Read(ctx, false, 10, 4)
	require.NoError(t, err)
	assert.Equal(t, []uint16{42, 43, 44, 45}, words)
	words, err = c.Read(ctx, false, 0, 100)
	require.NoError(t, err)
	assert.Len(t, words, 100, "a long answer")
	var refused *Exception
	_, err = c.Read(ctx, false, 200, 1)
	require.ErrorAs(t, err, &refused)
	assert.EqualValues(t, 2, refused.Code)
	_, err = c.Read(ctx, false, 0, 126)
	assert.ErrorContains(t, err, "1 to 125 can be read")
	assert.ErrorContains(t, c.Write(ctx, 0, true), "1 to 123 can be written")
	assert.EqualValues(t, 1, c.Trace.Statistics().Connects, "a refusal does not cost the connection")
}

func TestAgainstTheReferenceOverTCP(t *testing.T) {
	port := reference(t)
	exercise(t, open(t, "modbus-tcp://127.0.0.1:"+port+"?unit=7"))
}

// cable joins two pseudo-terminals to a serial line, and gives the paths of its ends.
func cable(t *testing.T) (a, b string) {
	t.Helper()
	var masters [2]*os.File
	var paths [2]string
	for i := range masters {
		master, slave, err := pty.Open()
		require.NoError(t, err)
		mode, err := unix.IoctlGetTermios(int(slave.Fd()), unix.TCGETS)
		require.NoError(t, err)
		mode.Iflag, mode.Oflag, mode.Lflag = 0, 0, 0
		require.NoError(t, unix.IoctlSetTermios(int(slave.Fd()), unix.TCSETS, mode))
		t.Cleanup(func() { master.Close(); slave.Close() })
		masters[i], paths[i] = master, slave.Name()
	}
	go func() { _, _ = io.Copy(masters[0], masters[1]) }()
	go func() { _, _ = io.Copy(masters[1], masters[0]) }()
	return paths[0], paths[1]
}

func TestAgainstTheReferenceOnASerialLine(t *testing.T) {
	here, there := cable(t)
	reference(t, "rtu", there)
	exercise(t, open(t, "modbus-rtu://"+here+"?baud=115200&unit=7"))
	other := open(t, "modbus-rtu://"+here+"?baud=115200&unit=8")
	_, err := other.Read(context.Background(), false, 0, 1)
	assert.Error(t, err, "nobody is unit 8")
}

// However busy the machine is: while a dead instrument is asked now and then, two others share the line.
func TestSeveralInstrumentsShareALineFairly(t *testing.T) {
	here, there := cable(t)
	reference(t, "rtu", there)
	good := []*Client{open(t, "modbus-rtu://"+here+"?baud=115200&unit=7"),
		open(t, "modbus-rtu://"+here+"?baud=115200&unit=7")}
	dead := open(t, "modbus-rtu://"+here+"?baud=115200&unit=9")
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	var wg sync.WaitGroup
	var answered [3]atomic.Int64
	for i, c := range []*Client{good[0], good[1], dead} {
		wg.Go(func() {
			for ctx.Err() == nil {
				if _, err := c.Read(context.Background(), true, 0, 2); err == nil {
					answered[i].Add(1)
				} else {
					<-time.After(time.Millisecond) // most times it is told at once that it is not connected
				}
			}
		})
	}
	asked := func() int64 { return int64(dead.Trace.Statistics().Errors) }
	require.Eventually(t, func() bool {
		return asked() >= 2 && answered[0].Load() >= 30 && answered[1].Load() >= 30
	}, time.Minute, 10*time.Millisecond)
	cancel()
	wg.Wait()
	first, second := answered[0].Load(), answered[1].Load()
	assert.Greater(t, first+second, 4*asked(), "a dead instrument on the line leaves the others most of the turns")
	assert.Less(t, max(first, second), 3*min(first, second), "the two get about the same share")
	assert.Zero(t, answered[2].Load())
}

func TestALineThatIsPulledAndPluggedInElsewhereIsFoundAgain(t *testing.T) {
	byID := filepath.Join(t.TempDir(), "usb-adapter")
	plug := func() (pull func()) {
		master, slave, err := pty.Open()
		require.NoError(t, err)
		mode, err := unix.IoctlGetTermios(int(slave.Fd()), unix.TCGETS)
		require.NoError(t, err)
		mode.Iflag, mode.Oflag, mode.Lflag = 0, 0, 0
		require.NoError(t, unix.IoctlSetTermios(int(slave.Fd()), unix.TCSETS, mode))
		_ = os.Remove(byID)
		require.NoError(t, os.Symlink(slave.Name(), byID))
		go func() {
			buffer := make([]byte, 64)
			for {
				if _, err := master.Read(buffer); err != nil {
					return
				}
				_, _ = master.Write(sealRTU(3, []byte{3, 2, 0, 5}))
			}
		}()
		return func() { master.Close(); slave.Close() }
	}
	pull := plug()
	c := open(t, "modbus-rtu://"+byID+"?baud=115200&unit=3")
	_, err := c.Read(context.Background(), false, 0, 1)
	require.NoError(t, err)
	pull()
	_, err = c.Read(context.Background(), false, 0, 1)
	require.Error(t, err)
	keep, _, err := pty.Open() // takes the old name, so that the adapter comes back under another
	require.NoError(t, err)
	defer keep.Close()
	defer plug()()
	require.Eventually(t, func() bool {
		words, err := c.Read(context.Background(), false, 0, 1)
		return err == nil && words[0] == 5
	}, 10*time.Second, 20*time.Millisecond)
}

func TestATCPServerThatLies(t *testing.T) {
	for name, answer := range map[string]string{
		"another transaction": "FF FF 00 00 00 05 07 03 02 00 05",
		"another unit":        "00 01 00 00 00 05 08 03 02 00 05",
		"no Modbus":           "48 54 54 50 2F 31 2E 31",
		"half":                "00 01 00 00 00 05 07",
	} {
		listener, err := net.Listen("tcp", "127.0.0.1:0")
		require.NoError(t, err)
		go func() {
			for {
				conn, err := listener.Accept()
				if err != nil {
					return
				}
				_, _ = conn.Read(make([]byte, 20))
				_, _ = conn.Write(unhex(t, answer))
			}
		}()
		c := open(t, fmt.Sprintf("modbus-tcp://%s?unit=7", listener.Addr()))
		_, err = c.Read(context.Background(), false, 0, 1)
		assert.ErrorContains(t, err, `no answer to "read holding 0 × 1"`, name)
		_, err = c.Read(context.Background(), false, 0, 1)
		assert.ErrorContains(t, err, "is not connected", "%s: the connection is given up", name)
		listener.Close()
	}
	c := open(t, "modbus-tcp://127.0.0.1:1")
	require.NoError(t, c.Close())
	_, err := c.Read(context.Background(), false, 0, 1)
	assert.True(t, errors.Is(err, wire.ErrClosed))
}

func FuzzAnswers(f *testing.F) {
	f.Add(byte(3), []byte{3, 2, 0, 5})
	f.Add(byte(16), []byte{16, 0, 1, 0, 2})
	f.Add(byte(4), []byte{0x84, 2})
	f.Fuzz(func(t *testing.T, function byte, answer []byte) {
		asked := request(function, 1, 2)
		words, err := answerTo(asked, answer)
		if err == nil && (function == ReadHolding || function == ReadInput) && len(words) != 2 {
			t.Errorf("%x answered with %x gave %d registers", asked, answer, len(words))
		}
		if pdu, err := openRTU(3, answer); err == nil && len(pdu)+3 != len(answer) {
			t.Errorf("%x was opened to %x", answer, pdu)
		}
		if n := answerLength(answer); n < 0 || n > 260 {
			t.Errorf("%x should be %d bytes long", answer, n)
		}
		if len(answer) >= headerTCP {
			if n, err := lengthTCP(answer); err == nil && (n < 1 || n > 253) {
				t.Errorf("%x announces %d bytes", answer, n)
			}
		}
	})
}
