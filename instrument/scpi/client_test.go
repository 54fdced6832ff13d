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
)

// peer is an instrument made of a function: it gets each line and what to write back. A nil answer closes the connection.
func peer(t *testing.T, answer func(line string) []byte) string {
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
	return "tcp://" + listener.Addr().String()
}

var queued = Options{Within: 300 * time.Millisecond, ErrorQuery: "SYST:ERR?", NoError: "0,"}

func TestAnswersComeWithoutTheirTerminator(t *testing.T) {
	for name, reply := range map[string]string{"newline": "15.0\n", "carriage return too": "15.0\r\n"} {
		c := New(peer(t, func(string) []byte { return []byte(reply) }), queued)
		defer c.Close()
		answer, err := c.Query(context.Background(), "MEAS:VOLT?")
		require.NoError(t, err, name)
		assert.Equal(t, "15.0", answer, name)
	}
	long := strings.Repeat("1.25,", 4000)
	c := New(peer(t, func(string) []byte { return []byte(long + "\n") }), queued)
	defer c.Close()
	answer, err := c.Query(context.Background(), "TRAC?")
	require.NoError(t, err)
	assert.Equal(t, long, answer, "an answer longer than the buffer")
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
	err := c.Command(context.Background(), "VOLT 500")
	var refused *InstrumentError
	require.ErrorAs(t, err, &refused)
	assert.Equal(t, "VOLT 500", refused.Message)
	assert.Len(t, refused.Queue, 2)
	assert.ErrorContains(t, err, `the instrument refused "VOLT 500": -222`)
	require.NoError(t, c.Command(context.Background(), "VOLT 5"), "the queue is empty again")
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
		_, err := c.Query(context.Background(), "MEAS:VOLT?")
		require.Error(t, err, name)
		assert.ErrorContains(t, err, `no answer to "MEAS:VOLT?"`, name)
		assert.EqualValues(t, 1, c.Statistics().Errors, name)
		_, err = c.Query(context.Background(), "MEAS:VOLT?")
		assert.ErrorContains(t, err, "is not connected", "%s: right after a loss it waits before it connects again", name)
		require.NoError(t, c.Close())
	}
}

func TestClosedUnreachableAndCancelled(t *testing.T) {
	c := New(peer(t, func(string) []byte { return []byte("1\n") }), queued)
	require.NoError(t, c.Close())
	require.NoError(t, c.Close(), "closing twice does no harm")
	_, err := c.Query(context.Background(), "*IDN?")
	assert.ErrorIs(t, err, ErrClosed)

	c = New("tcp://127.0.0.1:1", queued)
	_, err = c.Query(context.Background(), "*IDN?")
	assert.ErrorContains(t, err, "tcp://127.0.0.1:1")
	c = New("ftp://x", queued)
	_, err = c.Query(context.Background(), "*IDN?")
	assert.ErrorContains(t, err, "known: tcp")
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	_, err = c.Query(ctx, "*IDN?")
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
				answer, err := c.Query(context.Background(), message)
				if err != nil || answer != message {
					t.Errorf("asked %q, got %q, %v", message, answer, err)
					return
				}
			}
		}()
	}
	wg.Wait()
	assert.EqualValues(t, 1600, c.Statistics().Messages)
}

func TestWithoutAnErrorQueueACommandIsOnlySent(t *testing.T) {
	got := make(chan string, 1)
	c := New(peer(t, func(line string) []byte { got <- line; return []byte{} }), Options{})
	defer c.Close()
	require.NoError(t, c.Command(context.Background(), "VOLT 5"))
	assert.Equal(t, "VOLT 5", <-got)
	queue, err := c.Errors(context.Background())
	require.NoError(t, err)
	assert.Empty(t, queue)
}
