package desk_test

import (
	"context"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"usherbench/service/desk"
)

// fake is a process that is a goroutine of this one.
type fake struct {
	ours, theirs net.Conn
	once         sync.Once
	ended        chan struct{}
}

func (f *fake) Connection() net.Conn   { return f.ours }
func (f *fake) Ended() <-chan struct{} { return f.ended }
func (f *fake) End() {
	f.once.Do(func() {
		f.theirs.Close()
		close(f.ended)
	})
}

// listener gives one connection.
type listener chan net.Conn

func (l listener) Accept() (net.Conn, error) {
	c, open := <-l
	if !open {
		return nil, io.EOF
	}
	return c, nil
}
func (l listener) Close() error   { return nil }
func (l listener) Addr() net.Addr { return &net.UnixAddr{} }

// house is a service with a desk whose processes answer with a handler.
type house struct {
	*desk.Desk
	mu        sync.Mutex
	processes []*fake
	url       string
	failed    chan error
}

func open(t *testing.T, handler http.Handler) *house {
	h := &house{failed: make(chan error, 10)}
	h.Desk = desk.New(func() (desk.Process, error) {
		f := &fake{ended: make(chan struct{})}
		f.ours, f.theirs = net.Pipe()
		l := make(listener, 1)
		l <- f.theirs
		close(l)
		go func() { _ = (&http.Server{Handler: handler}).Serve(l) }()
		h.mu.Lock()
		defer h.mu.Unlock()
		h.processes = append(h.processes, f)
		return f, nil
	})
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if err := h.Answer(w, r); err != nil {
			h.failed <- err
			w.WriteHeader(http.StatusServiceUnavailable)
		}
	}))
	t.Cleanup(server.Close)
	t.Cleanup(h.Close)
	h.url = server.URL
	return h
}

func (h *house) process(i int) *fake {
	h.mu.Lock()
	defer h.mu.Unlock()
	return h.processes[i]
}

func (h *house) ask(t *testing.T, path, body string) (status int, answer string) {
	resp, err := http.Post(h.url+path, "text/plain", strings.NewReader(body))
	require.NoError(t, err)
	defer resp.Body.Close()
	text, err := io.ReadAll(resp.Body)
	require.NoError(t, err)
	return resp.StatusCode, string(text)
}

var echo = http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
	text, _ := io.ReadAll(r.Body)
	w.Header().Set("Content-Type", "text/plain")
	w.WriteHeader(http.StatusTeapot)
	_, _ = io.WriteString(w, r.Method+" "+r.URL.String()+" "+string(text)+r.Header.Get("Authorization"))
})

func TestAProcessAnswersOneRequestAfterAnother(t *testing.T) {
	h := open(t, echo)
	for range 3 {
		status, answer := h.ask(t, "/a?b=c", "what?")
		assert.Equal(t, http.StatusTeapot, status)
		assert.Equal(t, "POST /a?b=c what?", answer)
	}
	assert.Len(t, h.processes, 1)
	h.process(0).End() // somebody ends it while it has nothing to do
	status, _ := h.ask(t, "/a", "")
	assert.Equal(t, http.StatusTeapot, status)
	assert.Len(t, h.processes, 2)
	h.Close()
	<-h.process(1).Ended()
	status, _ = h.ask(t, "/a", "")
	assert.Equal(t, http.StatusServiceUnavailable, status)
}

func TestAProcessEndsWithWhoAsked(t *testing.T) {
	begun, wait := make(chan struct{}), make(chan struct{})
	defer close(wait)
	h := open(t, http.HandlerFunc(func(http.ResponseWriter, *http.Request) {
		close(begun)
		<-wait // it does not hear that nobody wants an answer
	}))
	ctx, cancel := context.WithCancel(t.Context())
	request, err := http.NewRequestWithContext(ctx, http.MethodGet, h.url, nil)
	require.NoError(t, err)
	gone := make(chan struct{})
	go func() {
		defer close(gone)
		if resp, err := http.DefaultClient.Do(request); err == nil {
			resp.Body.Close()
		}
	}()
	<-begun
	cancel()
	<-gone
	select {
	case <-h.process(0).Ended():
	case <-time.After(time.Minute):
		t.Fatal("it goes on after its client left")
	}
}

func TestAProcessThatEndsInTheMiddleIsTold(t *testing.T) {
	var h *house
	h = open(t, http.HandlerFunc(func(http.ResponseWriter, *http.Request) { h.process(0).End() }))
	status, _ := h.ask(t, "/a", "")
	assert.Equal(t, http.StatusServiceUnavailable, status)
	assert.ErrorIs(t, <-h.failed, desk.ErrEnded)
}
