package service

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"syscall"
	"time"

	"usherbench/bench"
	"usherbench/engine"
	"usherbench/instrument/dialect"
	"usherbench/instrument/transport/memory"
	"usherbench/line"
	"usherbench/operate"
	"usherbench/outbox"
	"usherbench/service/desk"
	"usherbench/store"
	"usherbench/warden"
)

// Config is what a running service needs to know.
type Config struct {
	// Data is the folder of records; it is made if it does not exist.
	Data string
	// Listen is the address to serve on; port 0 takes a free one.
	Listen string
	// Memory is the service's part of a network in memory, in which it is then found by Listen as a name, and in which it
	// finds unit handlers and instruments; nil: the computer's network.
	Memory *memory.Network
	// On stands in for the computer's disk and clock.
	On store.Surroundings
	// TLSCert and TLSKey are files; without them only loopback addresses are served, unless Insecure.
	TLSCert, TLSKey string
	Insecure        bool
	Bench           bench.Config
	// HashMemory is what hashing a password takes, in KiB; 0: as much as keeps guessing expensive. Less is for tests: a
	// service knows only the passwords that were hashed with as much as it has.
	HashMemory uint32
	// Ready are procedures to start from.
	Ready []string
	// Warden starts the second process; nil: there is none.
	Warden warden.Launcher
	// Desk starts processes for heavy work, given the database; nil: it is done in this one.
	Desk func(database string) desk.Launcher
}

// Running is a service at work.
type Running struct {
	URL     string
	Store   *store.Store
	Engine  *engine.Engine
	Service *Service
	// Problems found at the start that do not keep the service from working.
	Problems []string

	// Warden is the service's end of the second process; nil if there is none.
	Warden *warden.Keeper

	line      *line.Line
	places    *operate.Places
	outbox    *outbox.Outbox
	desk      *desk.Desk
	server    *http.Server
	lock      *os.File
	local     string
	failed    chan error
	endCopies func() // nil: none are made by themselves
}

// LocalAccess is how a client on this machine finds the service and proves that it may read the data folder.
// The file has mode 0600.
type LocalAccess struct {
	Server string `json:"server"`
	Token  string `json:"token"`
}

// LocalAccessFile is the name of the file with a LocalAccess in the data folder.
const LocalAccessFile = "local-access.json"

// Start opens the records, makes safe what a killed service left behind, and only then begins to take requests.
func Start(c Config, log *slog.Logger) (r *Running, err error) {
	r = &Running{failed: make(chan error, 1)}
	defer func() {
		if err != nil {
			err = errors.Join(err, r.release())
		}
	}()
	listener, err := listen(c)
	if err != nil {
		return r, err
	}
	defer func() {
		if err != nil {
			_ = listener.Close() // the first error counts
		}
	}()
	if r.lock, err = lock(c.Data); err != nil {
		return r, err
	}
	dialects, err := dialect.Load(filepath.Join(c.Data, "dialects"))
	if err != nil {
		r.Problems = append(r.Problems, "some dialects were left out: "+err.Error())
	}
	options := engine.Options{Data: c.Data, Memory: c.Memory, WardenLog: filepath.Join(c.Data, warden.LogFile)}
	if r.Store, err = store.OpenOn(filepath.Join(c.Data, store.File), c.On); err != nil {
		return r, errors.Join(err, engine.MakeSafeUnread(c.Bench, dialects, log, options))
	}
	if c.Warden != nil {
		if r.Warden, err = warden.Start(c.Warden, options.WardenLog, log); err != nil {
			return r, err
		}
		options.Warden = r.Warden
	}
	if r.Engine, err = engine.Open(c.Bench, dialects, r.Store, log, options); err != nil {
		return r, err
	}
	r.line = line.Open(r.Engine, r.Store, log)
	serving := Options{Problems: r.Problems, Secure: c.TLSCert != "", HashMemory: c.HashMemory, Ready: c.Ready}
	if c.Desk != nil {
		r.desk = desk.New(c.Desk(filepath.Join(c.Data, store.File)))
		serving.Desk = r.desk
	}
	if r.places, err = operate.Open(r.Engine, r.Store, log); err != nil {
		return r, err
	}
	if r.Service, err = New(r.Store, r.Engine, r.line, r.places, log, serving); err != nil {
		return r, err
	}
	r.outbox = outbox.Open(r.Store, c.Data, r.Service.Report, log)
	r.Service.options.Outbox = r.outbox
	if c.Bench.Copies != nil {
		r.keepCopies(*c.Bench.Copies, log)
	}
	r.URL = "http://" + listener.Addr().String()
	if c.TLSCert != "" {
		r.URL = "https://" + listener.Addr().String()
	}
	if err = r.writeLocalAccess(c.Data); err != nil {
		return r, err
	}
	r.server = &http.Server{Handler: r.Service, ReadHeaderTimeout: 10 * time.Second, IdleTimeout: 2 * time.Minute}
	go func() {
		var err error
		if c.TLSCert != "" {
			err = r.server.ServeTLS(listener, c.TLSCert, c.TLSKey)
		} else {
			err = r.server.Serve(listener)
		}
		if !errors.Is(err, http.ErrServerClosed) {
			r.failed <- err
		}
	}()
	return r, nil
}

// keepCopies has copies of the records made until the service ends.
func (r *Running) keepCopies(asked bench.Copies, log *slog.Logger) {
	ctx, cancel := context.WithCancel(context.Background())
	k := &copies{store: r.Store, asked: asked, log: log,
		note: func(what, detail string) { r.Service.note("the service", what, detail) }}
	r.Service.copies = k
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		k.run(ctx)
	}()
	r.endCopies = func() { cancel(); <-ended }
}

func listen(c Config) (net.Listener, error) {
	if c.Memory != nil {
		return c.Memory.Listen(c.Listen)
	}
	host, _, err := net.SplitHostPort(c.Listen)
	if err != nil {
		return nil, fmt.Errorf("listen address %q: write it like 127.0.0.1:8750", c.Listen)
	}
	if (c.TLSCert == "") != (c.TLSKey == "") {
		return nil, errors.New("TLS needs both a certificate and a key")
	}
	if c.TLSCert == "" && !c.Insecure && !loopback(host) {
		return nil,
			fmt.Errorf("%q can be reached from other machines, and without TLS passwords would be readable on the way; give "+
				"--tls-cert and --tls-key, "+
				"or --insecure if a proxy in front does TLS", c.Listen)
	}
	listener, err := net.Listen("tcp", c.Listen)
	if err != nil {
		if errors.Is(err, syscall.EADDRINUSE) {
			return nil, fmt.Errorf("%s is taken: another program listens there, perhaps another service; end it, or choose "+
				"another port with --listen", c.Listen)
		}
		return nil, fmt.Errorf("listen: %w", err)
	}
	return listener, nil
}

func loopback(host string) bool {
	ip := net.ParseIP(host)
	return host == "localhost" || ip != nil && ip.IsLoopback()
}

// lock keeps a second service from the same records, which would drive the same bench.
func lock(data string) (*os.File, error) {
	if err := os.MkdirAll(data, 0o700); err != nil {
		return nil, fmt.Errorf("data folder: %w", err)
	}
	f, err := os.OpenFile(filepath.Join(data, "lock"), os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, fmt.Errorf("data folder: %w", err)
	}
	if err := syscall.Flock(int(f.Fd()), syscall.LOCK_EX|syscall.LOCK_NB); err != nil {
		return nil,
			errors.Join(fmt.Errorf("another service uses the data folder %s; stop it, or choose another folder with --data",
				data), f.Close())
	}
	return f, nil
}

func (r *Running) writeLocalAccess(data string) error {
	token, err := r.Service.LocalToken()
	if err != nil {
		return err
	}
	text, err := json.Marshal(LocalAccess{Server: r.URL, Token: token})
	if err != nil {
		return err
	}
	r.local = filepath.Join(data, LocalAccessFile)
	// Written beside and renamed, so that nobody reads half a file; a file that was there with a wider mode is replaced.
	temporary := r.local + ".new"
	if err := os.Remove(temporary); err != nil && !errors.Is(err, os.ErrNotExist) {
		return err
	}
	if err := os.WriteFile(temporary, text, 0o600); err != nil {
		return err
	}
	return os.Rename(temporary, r.local)
}

// Failed gives the error that ended serving, if one does.
func (r *Running) Failed() <-chan error { return r.failed }

// Close takes no more requests, ends every run, makes every bay safe, and closes the records.
func (r *Running) Close() error {
	// Live streams do not end by themselves, so the wait for requests is short.
	ctx, cancel := context.WithTimeout(context.Background(), 300*time.Millisecond)
	defer cancel()
	if err := r.server.Shutdown(ctx); err != nil {
		_ = r.server.Close() // whoever still streams is cut off
	}
	return r.release()
}

// release frees what Start took, in reverse order.
func (r *Running) release() error {
	var errs []error
	if r.line != nil {
		r.line.Close()
	}
	if r.places != nil {
		r.places.Close()
	}
	if r.endCopies != nil {
		r.endCopies()
	}
	if r.outbox != nil {
		r.outbox.Close()
	}
	if r.desk != nil {
		r.desk.Close()
	}
	if r.Engine != nil {
		errs = append(errs, r.Engine.Close())
	}
	if r.Warden != nil {
		errs = append(errs, r.Warden.Close())
	}
	if r.Store != nil {
		errs = append(errs, r.Store.Close())
	}
	if r.local != "" {
		errs = append(errs, os.Remove(r.local))
	}
	if r.lock != nil {
		errs = append(errs, r.lock.Close())
	}
	return errors.Join(errs...)
}
