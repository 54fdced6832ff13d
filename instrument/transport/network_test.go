package transport_test

import (
	"bufio"
	"context"
	"io"
	"net"
	"os"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"usherbench/instrument/transport"
	"usherbench/instrument/transport/hislip"
	"usherbench/instrument/transport/session"
	"usherbench/instrument/transport/vxi11"
)

// echo answers a line that ends with ? with what stands before it: "slow" after a while, "block" with bytes that look
// like ends of lines.
type echo struct {
	status atomic.Uint32 // and how often service was requested, above 8 bits
	slow   time.Duration
	heard  sync.Map
}

const blockSize = 300_000

func (e *echo) serve(conn io.ReadWriteCloser) {
	defer conn.Close()
	lines := bufio.NewScanner(conn)
	lines.Buffer(nil, 1<<20)
	for lines.Scan() {
		e.heard.Store(lines.Text(), true)
		question, asks := strings.CutSuffix(lines.Text(), "?")
		switch {
		case !asks:
			continue
		case question == "slow":
			time.Sleep(e.slow)
		case question == "block":
			question = "#6300000" + strings.Repeat("\n\r#;", blockSize/4)
		case question == "bare": // without a line feed at its end
			_, _ = conn.Write([]byte("bare"))
			continue
		}
		if _, err := conn.Write([]byte(question + "\n")); err != nil {
			return
		}
	}
}

// networks serves a device over each protocol, with small messages so that long ones come in parts, and gives the
// address.
func networks(t *testing.T, d session.Device) map[string]string {
	t.Helper()
	d.Holder = &session.Lock{}
	serve := func(answer func(port int) func(net.Conn)) string {
		listener, err := net.Listen("tcp", "127.0.0.1:0")
		require.NoError(t, err)
		each := answer(listener.Addr().(*net.TCPAddr).Port)
		var serving sync.WaitGroup
		serving.Go(func() {
			for {
				conn, err := listener.Accept()
				if err != nil {
					return
				}
				serving.Go(func() { each(conn) })
			}
		})
		t.Cleanup(func() {
			listener.Close()
			serving.Wait()
		})
		_, port, err := net.SplitHostPort(listener.Addr().String())
		require.NoError(t, err)
		return port
	}
	const most = 1024
	return map[string]string{
		"hislip": "hislip://127.0.0.1:" + serve(func(int) func(net.Conn) {
			return (&hislip.Server{Device: d, Most: most, Part: "hislip0"}).Serve
		}) + "/hislip0",
		"vxi11": "vxi11://127.0.0.1/inst0?portmapper=" + serve(func(port int) func(net.Conn) {
			return (&vxi11.Server{Device: d, Most: most, Part: "inst0", Port: port}).Serve
		}),
	}
}

type client struct {
	transport.Link
	lines *bufio.Reader
	t     *testing.T
}

func open(t *testing.T, address string) (*client, error) {
	a, err := transport.Parse(address)
	require.NoError(t, err)
	ctx, cancel := context.WithTimeout(context.Background(), time.Second)
	defer cancel()
	link, err := transport.Open(ctx, a)
	if err != nil {
		return nil, err
	}
	t.Cleanup(func() { link.Close() })
	return &client{link, bufio.NewReader(link), t}, link.SetDeadline(time.Now().Add(10 * time.Second))
}

func (c *client) say(message string) {
	c.t.Helper()
	_, err := c.Write([]byte(message + "\n"))
	require.NoError(c.t, err)
}

func (c *client) ask(message string) string {
	c.t.Helper()
	c.say(message)
	answer, err := c.lines.ReadString('\n')
	require.NoError(c.t, err)
	return strings.TrimSuffix(answer, "\n")
}

func TestMessagesOverTheNetwork(t *testing.T) {
	device := &echo{slow: 150 * time.Millisecond}
	for name, address := range networks(t, session.Device{Serve: device.serve}) {
		t.Run(name, func(t *testing.T) {
			c, err := open(t, address)
			require.NoError(t, err)
			assert.Equal(t, "one", c.ask("one?"))
			assert.Equal(t, "two", c.ask("two?"))
			long := strings.Repeat("0123456789", 1000)
			assert.Equal(t, long, c.ask(long+"?"), "a message in parts")
			assert.Equal(t, "bare", c.ask("bare?"), "an answer ends though it has no line feed")

			c.say("block?")
			head := make([]byte, 8)
			_, err = io.ReadFull(c.lines, head)
			require.NoError(t, err)
			assert.Equal(t, "#6300000", string(head))
			block := make([]byte, blockSize)
			_, err = io.ReadFull(c.lines, block)
			require.NoError(t, err)
			assert.Equal(t, strings.Repeat("\n\r#;", blockSize/4), string(block))
			end, err := c.lines.ReadString('\n')
			require.NoError(t, err)
			assert.Equal(t, "\n", end)
			assert.Equal(t, "three", c.ask("three?"))

			c.say("block?")
			_, err = io.ReadFull(c.lines, head)
			require.NoError(t, err)
			c.say("after?")
			c.lines.Reset(c.Link)
			answer, err := c.lines.ReadString('\n')
			require.NoError(t, err)
			assert.Equal(t, "after\n", answer, "what was read in part answers nothing else")

			require.NoError(t, c.SetDeadline(time.Now().Add(30*time.Millisecond)))
			c.say("slow?")
			_, err = c.lines.ReadString('\n')
			require.ErrorIs(t, err, os.ErrDeadlineExceeded)
		})
	}
}

// What was left of an exchange that failed answers nobody's question after a device clear.
func TestADeviceClearDropsWhatWasAsked(t *testing.T) {
	device := &echo{slow: 50 * time.Millisecond}
	for name, address := range networks(t, session.Device{Serve: device.serve}) {
		t.Run(name, func(t *testing.T) {
			c, err := open(t, address)
			require.NoError(t, err)
			c.say("slow?")
			require.NoError(t, c.Link.(transport.Clearer).Clear())
			c.lines.Reset(c.Link)
			assert.Equal(t, "next", c.ask("next?"))
			c.say("unread?")
			require.NoError(t, c.Link.(transport.Clearer).Clear())
			c.lines.Reset(c.Link)
			assert.Equal(t, "last", c.ask("last?"))
		})
	}
}

func TestALockKeepsOthersOut(t *testing.T) {
	device := &echo{}
	for name, address := range networks(t, session.Device{Serve: device.serve}) {
		t.Run(name, func(t *testing.T) {
			locked := address + map[bool]string{true: "&lock=yes", false: "?lock=yes"}[strings.Contains(address, "?")]
			holder, err := open(t, locked)
			require.NoError(t, err)
			_, err = open(t, locked)
			require.ErrorContains(t, err, "the instrument is locked by somebody else")
			assert.Equal(t, "mine", holder.ask("mine?"))

			other, err := open(t, address)
			require.NoError(t, err)
			require.NoError(t, other.SetDeadline(time.Now().Add(50*time.Millisecond)))
			_, err = other.Write([]byte("theirs " + name + "\n"))
			if err == nil { // it was taken in, but waits
				_, err = other.lines.ReadString('\n')
			}
			require.Error(t, err)
			_, heard := device.heard.Load("theirs " + name)
			assert.False(t, heard, "what another says does not get through")

			require.NoError(t, holder.Close())
			next, err := open(t, locked)
			require.NoError(t, err, "who closes gives the lock back")
			assert.Equal(t, "mine", next.ask("mine?"))
		})
	}
}

func TestServiceIsRequested(t *testing.T) {
	device := &echo{}
	reached := networks(t, session.Device{Serve: device.serve, Status: func() (byte, uint64) {
		x := device.status.Load()
		return byte(x), uint64(x >> 8)
	}})
	for name, address := range reached {
		t.Run(name, func(t *testing.T) {
			device.status.Store(0)
			c, err := open(t, address)
			require.NoError(t, err)
			requester := c.Link.(transport.Requester)
			requests, err := requester.Requests()
			require.NoError(t, err)
			for n := range uint32(3) {
				select {
				case <-requests:
					require.Fail(t, "nothing was requested")
				default:
				}
				device.status.Store((n+1)<<8 | 1<<6 | 1<<5)
				select {
				case <-requests:
				case <-time.After(5 * time.Second):
					require.Fail(t, "no request came")
				}
				status, err := requester.Status()
				require.NoError(t, err)
				assert.EqualValues(t, 1<<6|1<<5, status)
				assert.Equal(t, "yes", c.ask("yes?"), "messages go on beside it")
			}
		})
	}
}

// An instrument that cannot request service is asked, and its connection stays well.
func TestWhoCannotRequestServiceIsAsked(t *testing.T) {
	device := &echo{}
	c, err := open(t, networks(t, session.Device{Serve: device.serve})["vxi11"])
	require.NoError(t, err)
	for range 2 {
		requests, err := c.Link.(transport.Requester).Requests()
		require.NoError(t, err)
		assert.Nil(t, requests)
		assert.Equal(t, "one", c.ask("one?"))
	}
}

func TestWhoIsNotThereIsSaid(t *testing.T) {
	device := &echo{}
	reached := networks(t, session.Device{Serve: device.serve})
	_, err := open(t, strings.Replace(reached["hislip"], "/hislip0", "/hislip7", 1))
	require.ErrorContains(t, err, "there is no hislip7 here")
	_, err = open(t, strings.Replace(reached["vxi11"], "/inst0", "/inst7", 1))
	require.ErrorContains(t, err, "there is no such part")
	_, err = open(t, strings.Replace(strings.Replace(reached["hislip"], "hislip:", "vxi11:", 1), "hislip0", "inst0", 1))
	require.Error(t, err, "another protocol is spoken there")
	port := reached["vxi11"][strings.LastIndex(reached["vxi11"], "=")+1:]
	c, err := open(t, "vxi11://127.0.0.1:"+port+"/inst0")
	require.NoError(t, err, "the port of the core channel, without a port mapper")
	assert.Equal(t, "one", c.ask("one?"))
}
