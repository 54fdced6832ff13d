package scpi

import (
	"bufio"
	"context"
	"errors"
	"net"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"usherbench/instrument/transport"
	"usherbench/instrument/wire"
)

// peer is an instrument made of a function: it gets each line and what to write back. A nil answer closes the
// connection.
func peer(t *testing.T, answer func(line string) []byte) transport.Address {
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { listener.Close() })
	go func() {
		for {
			conn, err := listener.Accept()
			if err != nil {
				return
			}
			go func() {
				defer conn.Close()
				lines := bufio.NewScanner(conn)
				for lines.Scan() {
					reply := answer(lines.Text())
					if reply == nil {
						return
					}
					if _, err := conn.Write(reply); err != nil {
						return
					}
				}
			}()
		}
	}()
	return at(t, "tcp://"+listener.Addr().String())
}

func at(t *testing.T, address string) transport.Address {
	a, err := transport.Parse(address)
	require.NoError(t, err)
	return a
}

var queued = Options{Within: 300 * time.Millisecond, ErrorQuery: "SYST:ERR?", NoError: "0,", Joined: true}

func TestAnswersComeWithoutTheirTerminator(t *testing.T) {
	for name, reply := range map[string]string{"newline": "15.0\n", "carriage return too": "15.0\r\n"} {
		c := New(peer(t, func(string) []byte { return []byte(reply) }), queued)
		defer c.Close()
		answer, err := c.Query(context.Background(), Request{Message: "MEAS:VOLT?"})
		require.NoError(t, err, name)
		assert.Equal(t, "15.0", answer, name)
	}
	long := strings.Repeat("1.25,", 4000)
	c := New(peer(t, func(string) []byte { return []byte(long + "\n") }), queued)
	defer c.Close()
	answer, err := c.Query(context.Background(), Request{Message: "TRAC?"})
	require.NoError(t, err)
	assert.Equal(t, long, answer, "an answer longer than the buffer")
}

// What is asked twice is answered also by an instrument that answers each question with the answer to the one before.
func TestAnAnswerThatIsBehindIsNotTakenForOneThatIsAskedTwice(t *testing.T) {
	before := "0" // of somebody else's question
	answers := map[string]string{"OUTP?": "1", "INT?": "0"}
	c := New(peer(t, func(line string) []byte {
		answer := before
		before = answers[line]
		return []byte(answer + "\n")
	}), Options{})
	defer c.Close()
	for range 3 {
		answer, err := c.Query(context.Background(), Request{Message: "OUTP?", Twice: true})
		require.NoError(t, err)
		assert.Equal(t, "1", answer)
		_, err = c.Query(context.Background(), Request{Message: "INT?"})
		require.NoError(t, err)
	}
}

func TestACommandReadsTheWholeErrorQueue(t *testing.T) {
	queue := []string{`-222,"Data out of range"`, `-113,"Undefined header"`}
	var mu sync.Mutex
	c := New(peer(t, func(line string) []byte {
		mu.Lock()
		defer mu.Unlock()
		if !strings.HasSuffix(line, "SYST:ERR?") {
			return []byte("?\n")
		}
		if len(queue) == 0 {
			return []byte("0,\"No error\"\n")
		}
		first := queue[0]
		queue = queue[1:]
		return []byte(first + "\n")
	}), queued)
	defer c.Close()
	err := c.Command(context.Background(), Request{Message: "VOLT 500"})
	var refused *InstrumentError
	require.ErrorAs(t, err, &refused)
	assert.Equal(t, "VOLT 500", refused.Message)
	assert.Len(t, refused.Queue, 2)
	assert.ErrorContains(t, err, `the instrument refused "VOLT 500": -222`)
	require.NoError(t, c.Command(context.Background(), Request{Message: "VOLT 5"}), "the queue is empty again")
	left, err := c.Errors(context.Background())
	require.NoError(t, err)
	assert.Empty(t, left)
}

func TestAQueueWithoutEndIsNotReadForEver(t *testing.T) {
	c := New(peer(t, func(string) []byte { return []byte("-100,\"again\"\n") }), queued)
	defer c.Close()
	queue, err := c.Errors(context.Background())
	require.NoError(t, err)
	assert.Len(t, queue, mostErrors)
}

func TestEveryWayToLoseAnAnswer(t *testing.T) {
	for name, answer := range map[string]func(string) []byte{
		"closed":            func(string) []byte { return nil },
		"silent":            func(string) []byte { return []byte{} },
		"half an answer":    func(string) []byte { return []byte("15.") },
		"an endless answer": func(string) []byte { return []byte(strings.Repeat("9", longestAnswer+8192)) },
	} {
		c := New(peer(t, answer), queued)
		_, err := c.Query(context.Background(), Request{Message: "MEAS:VOLT?"})
		require.Error(t, err, name)
		assert.ErrorContains(t, err, `no answer to "MEAS:VOLT?"`, name)
		assert.EqualValues(t, 1, c.Trace.Statistics().Errors, name)
		_, err = c.Query(context.Background(), Request{Message: "MEAS:VOLT?"})
		assert.ErrorContains(t, err, "is not connected", "%s: right after a loss it waits before it connects again", name)
		require.NoError(t, c.Close())
	}
}

func TestClosedUnreachableAndCancelled(t *testing.T) {
	c := New(peer(t, func(string) []byte { return []byte("1\n") }), queued)
	require.NoError(t, c.Close())
	require.NoError(t, c.Close(), "closing twice does no harm")
	_, err := c.Query(context.Background(), Request{Message: "*IDN?"})
	assert.ErrorIs(t, err, wire.ErrClosed)

	c = New(at(t, "tcp://127.0.0.1:1"), queued)
	_, err = c.Query(context.Background(), Request{Message: "*IDN?"})
	assert.ErrorContains(t, err, "tcp://127.0.0.1:1")
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	_, err = c.Query(ctx, Request{Message: "*IDN?"})
	assert.True(t, errors.Is(err, context.Canceled))
}

func TestMessagesOfManyTakeTurns(t *testing.T) {
	c := New(peer(t, func(line string) []byte { return []byte(line + "\n") }), queued)
	defer c.Close()
	var wg sync.WaitGroup
	for i := range 8 {
		wg.Add(1)
		go func() {
			defer wg.Done()
			message := strings.Repeat("x", i+1) + "?"
			for range 200 {
				answer, err := c.Query(context.Background(), Request{Message: message})
				if err != nil || answer != message {
					t.Errorf("asked %q, got %q, %v", message, answer, err)
					return
				}
			}
		}()
	}
	wg.Wait()
	assert.EqualValues(t, 1600, c.Trace.Statistics().Messages)
}

func TestWithoutAnErrorQueueACommandIsOnlySent(t *testing.T) {
	got := make(chan string, 1)
	c := New(peer(t, func(line string) []byte { got <- line; return []byte{} }), Options{})
	defer c.Close()
	require.NoError(t, c.Command(context.Background(), Request{Message: "VOLT 5"}))
	assert.Equal(t, "VOLT 5", <-got)
	queue, err := c.Errors(context.Background())
	require.NoError(t, err)
	assert.Empty(t, queue)
}

func TestTheErrorQueueIsAskedApartWhereOneLineWouldNotDo(t *testing.T) {
	var mu sync.Mutex
	var lines []string
	o := queued
	o.Joined = false
	c := New(peer(t, func(line string) []byte {
		mu.Lock()
		defer mu.Unlock()
		if lines = append(lines, line); line == "SYST:ERR?" {
			return []byte("0,\"No error\"\n")
		}
		return []byte{}
	}), o)
	defer c.Close()
	require.NoError(t, c.Command(context.Background(), Request{Select: "INST 2", Message: "VOLT 5"}))
	require.NoError(t, c.Command(context.Background(), Request{Select: "INST 2", Message: "CURR 1"}))
	mu.Lock()
	defer mu.Unlock()
	assert.Equal(t, []string{"INST 2", "VOLT 5", "SYST:ERR?", "CURR 1", "SYST:ERR?"}, lines,
		"a channel that is chosen is not chosen again")
}

func TestOtherTerminatorsGreetingsAndPauses(t *testing.T) {
	got := make(chan string, 8)
	c := New(peer(t, func(line string) []byte { got <- line; return []byte("7.5\r") }),
		Options{Send: "\r\n", Receive: "\r", Greeting: []string{"REMOTE"}, Pause: 20 * time.Millisecond})
	defer c.Close()
	began := time.Now()
	for range 2 {
		answer, err := c.Query(context.Background(), Request{Message: "V?"})
		require.NoError(t, err)
		assert.Equal(t, "7.5", answer)
	}
	assert.GreaterOrEqual(t, time.Since(began), 20*time.Millisecond)
	assert.Equal(t, "REMOTE", strings.TrimSpace(<-got), "sent once, after connecting")
	assert.Equal(t, "V?", strings.TrimSpace(<-got))
}

func TestBlocksOfBinaryNumbers(t *testing.T) {
	for name, c := range map[string]struct {
		answer string
		format Format
		want   []float64
	}{
		"float32, big":    {"#18\x3f\x80\x00\x00\xc0\x00\x00\x00\n", Format{Of: "float32"}, []float64{1, -2}},
		"float32, little": {"#14\x00\x00\x80\x3f\n", Format{"float32", true}, []float64{1}},
		"float64 with a line feed in it": {"#216\x40\x0a\x00\x00\x00\x00\x00\x00\xbf\xf0\x00\x00\x00\x00\x00\x00\n",
			Format{Of: "float64"}, []float64{3.25, -1}},
		"int16":        {"#14\xff\xfe\x00\x03\n", Format{Of: "int16"}, []float64{-2, 3}},
		"of no length": {"#0\x00\x03\n", Format{Of: "int16"}, []float64{3}},
	} {
		client := New(peer(t, func(string) []byte { return []byte(c.answer) }), queued)
		data, err := client.Query(context.Background(), Request{Message: "TRAC?", Block: true})
		require.NoError(t, err, name)
		numbers, err := c.format.Numbers(data)
		require.NoError(t, err, name)
		assert.Equal(t, c.want, numbers, name)
		require.NoError(t, client.Close())
	}
	big, odd := []int16{-2, 3, 258, -32768, 32767}, "#13\xff\xfe\x00\n"
	for name, c := range map[string]struct {
		format Format
		want   []int16
	}{
		"int16, big":    {Format{Of: "int16"}, big},
		"int16, little": {Format{"int16", true}, []int16{-257, 768, 513, 128, -129}},
		"int8":          {Format{Of: "int8"}, []int16{-1, -2, 0, 3, 1, 2, -128, 0, 127, -1}},
		"uint8":         {Format{Of: "uint8"}, []int16{255, 254, 0, 3, 1, 2, 128, 0, 127, 255}},
	} {
		client := New(peer(t, func(m string) []byte {
			if m == "ODD?" {
				return []byte(odd)
			}
			return []byte("#210\xff\xfe\x00\x03\x01\x02\x80\x00\x7f\xff\n")
		}), queued)
		codes := Codes{Format: c.format}
		for range 2 { // what came before is forgotten
			answer, err := client.Query(context.Background(), Request{Message: "TRAC?", Block: true, Data: codes.Begin})
			require.NoError(t, err, name)
			assert.Empty(t, answer)
			got, err := codes.All()
			require.NoError(t, err, name)
			assert.Equal(t, c.want, got, name)
		}
		_, err := client.Query(context.Background(), Request{Message: "ODD?", Block: true, Data: codes.Begin})
		require.NoError(t, err, name)
		if _, err = codes.All(); sizes[c.format.Of] == 2 {
			assert.ErrorIs(t, err, ErrBlockSize, name)
		}
		require.NoError(t, client.Close())
	}
	// However the data are cut into parts, the codes are the same.
	whole := Codes{Format: Format{Of: "int16"}}
	_, err := whole.Write([]byte{0xff, 0xfe, 0, 3, 1, 2, 0x80, 0, 0x7f, 0xff})
	require.NoError(t, err)
	assert.Equal(t, big, whole.got)
	parts := Codes{Format: whole.Format}
	for _, part := range [][]byte{{0xff}, {0xfe, 0, 3}, {1}, {2, 0x80, 0, 0x7f}, {}, {0xff}} {
		_, err := parts.Write(part)
		require.NoError(t, err)
	}
	got, err := parts.All()
	require.NoError(t, err)
	assert.Equal(t, big, got)

	client := New(peer(t, func(string) []byte { return []byte("15.0\n") }), queued)
	_, err = client.Query(context.Background(), Request{Message: "TRAC?", Block: true})
	assert.ErrorContains(t, err, "holds no block")
	_, err = Format{Of: "float32"}.Numbers("abc")
	assert.ErrorIs(t, err, ErrBlockSize)
	require.NoError(t, client.Close())
}
