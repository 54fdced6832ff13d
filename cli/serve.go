package cli

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"os/signal"
	"syscall"

	"github.com/spf13/cobra"

	"usherbench/bench"
	"usherbench/demo"
	"usherbench/service"
	"usherbench/service/desk"
	"usherbench/store"
	"usherbench/warden"
)

// settings is usher.yaml: how to serve, and the bench.
type settings struct {
	Listen       string `mapstructure:"listen"`
	Data         string `mapstructure:"data"`
	TLSCert      string `mapstructure:"tls_cert"`
	TLSKey       string `mapstructure:"tls_key"`
	Insecure     bool   `mapstructure:"insecure"`
	LogLevel     string `mapstructure:"log_level"`
	bench.Config `mapstructure:",squash"`
}

const defaultListen = "127.0.0.1:8750"

func (a *app) serve() *cobra.Command {
	var configFile string
	var noWarden bool
	c := &cobra.Command{
		Use: "serve", Short: "Run the service", Args: cobra.NoArgs,
		Long: `Run the service: it drives the bench that usher.yaml describes, keeps the records in
the data folder, and serves the console and the API. At the start it first makes safe what a killed service
left behind. A second small process, the warden, makes safe what is energised when this one is killed,
crashes or stalls.

usher.yaml is taken from --config, else from the data folder, else from the current folder. Flags override
environment variables (USHER_LISTEN, USHER_DATA, USHER_TLS_CERT, USHER_TLS_KEY, USHER_INSECURE,
USHER_LOG_LEVEL, USHER_TIME_FACTOR), and these override the file.`,
		Example: "  usher serve --data bench --listen 127.0.0.1:8750\n  usher serve --config /etc/usher.yaml",
		RunE: func(c *cobra.Command, _ []string) error {
			s, err := readSettings(c, configFile, a.dataFolder())
			if err != nil {
				return err
			}
			log, err := newLogger(a.err, s.LogLevel)
			if err != nil {
				return err
			}
			comeFirst(log)
			service.KeepRhythm()
			guard, err := wardenCommand(noWarden)
			if err != nil {
				return err
			}
			desk, err := deskCommand()
			if err != nil {
				return err
			}
			r, err := service.Start(service.Config{Warden: guard, Desk: desk, Ready: demo.Procedures(), Data: s.Data,
				Listen: s.Listen, TLSCert: s.TLSCert, TLSKey: s.TLSKey, Insecure: s.Insecure, Bench: s.Config}, log)
			if err != nil {
				return err
			}
			return a.untilStopped(c.Context(), r)
		},
	}
	c.Flags().StringVar(&configFile, "config", "", "configuration file (default usher.yaml in the data folder or here)")
	c.Flags().BoolVar(&noWarden, "no-warden", false,
		"do without the second process that makes safe when this one dies or stalls")
	c.Flags().String("listen", defaultListen, "address to serve on; port 0 takes a free one")
	c.Flags().String("tls-cert", "", "certificate file, for addresses that others can reach")
	c.Flags().String("tls-key", "", "key file of the certificate")
	c.Flags().Bool("insecure", false, "serve others without TLS, behind a proxy that does it")
	c.Flags().String("log-level", "warn", "debug, info, warn or error")
	c.Flags().Float64("time-factor", 0, "speed of the run clock, for a simulated bench that runs as fast")
	return c
}

func firstFile(paths ...string) string {
	for _, p := range paths {
		if _, err := os.Stat(p); err == nil {
			return p
		}
	}
	return ""
}

func newLogger(w interface{ Write([]byte) (int, error) }, level string) (*slog.Logger, error) {
	var l slog.Level
	if err := l.UnmarshalText([]byte(level)); err != nil {
		return nil, usage("log level %q: choose debug, info, warn or error", level)
	}
	return slog.New(slog.NewTextHandler(w, &slog.HandlerOptions{Level: l})), nil
}

// untilStopped says where the service is and waits until it is asked to stop.
func (a *app) untilStopped(ctx context.Context, r *service.Running) error {
	if err := a.announce(r); err != nil {
		return errors.Join(err, r.Close())
	}
	select {
	case <-ctx.Done():
		fmt.Fprintln(a.out, "Stopping: ending runs, switching outputs off …")
		if err := r.Close(); err != nil {
			return err
		}
		fmt.Fprintln(a.out, "Stopped.")
		return nil
	case err := <-r.Failed():
		return errors.Join(err, r.Close())
	}
}

func (a *app) announce(r *service.Running) error {
	fmt.Fprintf(a.out, "Usher Bench serves %s\n", r.URL)
	for _, p := range r.Problems {
		fmt.Fprintf(a.err, "usher: %s\n", p)
	}
	code, err := r.Service.SetupCode()
	if err != nil || code == "" {
		return err
	}
	fmt.Fprintf(a.out, "Set up the first account, once, at %s/setup?code=%s\n", r.URL, code)
	return nil
}

// wardenCommand is how this program is started as the warden.
func wardenCommand(none bool) (warden.Launcher, error) {
	if none {
		return nil, nil
	}
	self, err := os.Executable()
	if err != nil {
		return nil, fmt.Errorf("find the program to start the warden: %w", err)
	}
	return warden.Command(self, "warden"), nil
}

// deskCommand is how this program is started for heavy work.
func deskCommand() (func(database string) desk.Launcher, error) {
	self, err := os.Executable()
	if err != nil {
		return nil, fmt.Errorf("find the program to start processes for heavy work: %w", err)
	}
	return func(database string) desk.Launcher { return desk.Command(self, "desk", database) }, nil
}

// desk is a process that answers heavy requests. People do not call it: the service does.
func (a *app) desk() *cobra.Command {
	return &cobra.Command{
		Use:   "desk DATABASE",
		Short: "A process that answers heavy requests beside the service; started by usher serve", Hidden: true,
		Args: cobra.ExactArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			log, err := newLogger(a.err, "warn")
			if err != nil {
				return err
			}
			if err := setPriority(after); err != nil {
				log.Warn("heavy work does not come after other work", "err", err)
			}
			records, err := store.OpenBeside(args[0])
			if err != nil {
				return err
			}
			return errors.Join(desk.Serve(service.Apart(records, log)), records.Close())
		},
	}
}

// warden is the second process. People do not call it: the service does, and speaks to it over a pipe.
func (a *app) warden() *cobra.Command {
	return &cobra.Command{
		Use:   "warden LOG",
		Short: "The second process that makes safe when the service dies or stalls; started by usher serve", Hidden: true,
		Args: cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			// What ends the service must not end the warden before it has done its work.
			signal.Ignore(os.Interrupt, syscall.SIGTERM, syscall.SIGHUP, syscall.SIGPIPE)
			return warden.Process(context.WithoutCancel(c.Context()), a.in, a.out,
				warden.Surroundings{Log: args[0], EndService: warden.EndParent()})
		},
	}
}
