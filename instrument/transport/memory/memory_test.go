package memory_test

import (
	"net"
	"strings"
	"syscall"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/net/nettest"

	"usherbench/instrument/transport/memory"
)

// A connection in memory does all that connections of a network do.
func TestAConnectionIsOneLikeAnyOther(t *testing.T) {
	nettest.TestConn(t, func() (a, b net.Conn, stop func(), err error) {
		l, err := memory.Listen("")
		if err != nil {
			return nil, nil, nil, err
		}
		defer l.Close()
		near, err := memory.Dial(t.Context(), l.Addr().String())
		if err != nil {
			return nil, nil, nil, err
		}
		far, err := l.Accept()
		return near, far, func() { near.Close(); far.Close() }, err
	})
}

func TestOnlyWhoListensIsFound(t *testing.T) {
	l, err := memory.Listen("quay")
	require.NoError(t, err)
	_, err = memory.Listen("quay")
	assert.ErrorIs(t, err, syscall.EADDRINUSE)
	waits, err := memory.Dial(t.Context(), "quay")
	require.NoError(t, err)
	require.NoError(t, l.Close())
	_, err = waits.Read(make([]byte, 1))
	assert.Error(t, err, "nobody accepted it")
	_, err = memory.Dial(t.Context(), "quay")
	assert.ErrorIs(t, err, syscall.ECONNREFUSED)
	_, err = l.Accept()
	assert.ErrorIs(t, err, net.ErrClosed)
	_, err = memory.NewNetwork().DialHost(t.Context(), "tcp", "quay:80")
	assert.ErrorIs(t, err, syscall.ECONNREFUSED)
}

func TestBytesOnTheirWayAreBounded(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		near, far := memory.Pair(memory.Name("near"), memory.Name("far"))
		text := []byte(strings.Repeat("a bench by the sea ", 10_000))
		require.NoError(t, near.SetWriteDeadline(time.Now().Add(time.Second)))
		n, err := near.Write(text)
		assert.ErrorContains(t, err, "timeout")
		assert.Equal(t, 64<<10, n, "nobody reads")
		near.Close()
		got := 0
		for buffer := make([]byte, 1000); ; {
			n, err := far.Read(buffer)
			if err != nil {
				break
			}
			got += n
		}
		assert.Equal(t, n, got, "what was written before the end arrives")
	})
}

// Who is held up notices nothing until it goes on, not even that its time is up.
func TestAConnectionCanBeHeldUp(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		near, far := memory.Pair(memory.Name("near"), memory.Name("far"))
		defer near.Close()
		defer far.Close()
		release := make(chan struct{})
		near.Hold(release)
		_, err := far.Write([]byte("hello"))
		require.NoError(t, err)
		began := time.Now()
		require.NoError(t, near.SetReadDeadline(began.Add(time.Second)))
		time.AfterFunc(3*time.Second, func() { close(release) })
		_, err = near.Read(make([]byte, 5))
		assert.ErrorContains(t, err, "timeout")
		assert.Equal(t, 3*time.Second, time.Since(began))
		require.NoError(t, near.SetReadDeadline(time.Time{}))
		n, err := near.Read(make([]byte, 5))
		require.NoError(t, err)
		assert.Equal(t, 5, n)
	})
}
