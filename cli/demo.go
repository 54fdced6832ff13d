package cli

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"github.com/goccy/go-yaml"
	"github.com/spf13/cobra"

	"usherbench/api"
	"usherbench/bench"
	"usherbench/client"
	"usherbench/demo"
	"usherbench/service"
	"usherbench/service/desk"
	"usherbench/simbench"
	"usherbench/warden"
)

// The demo's clock: fast enough not to bore, slow enough to watch. Once has nobody to watch it.
const (
	demoTimeFactor = 1
	onceTimeFactor = 10
	historyBays    = 2
	demoName       = "demo"
	demoPassword   = "harbour lantern"
)

func (a *app) demo() *cobra.Command {
	var once, listen string
	var factor float64
	c := &cobra.Command{
		Use: "demo", Short: "Start everything with a simulated bench, to learn on", Args: cobra.NoArgs,
		Long: `Start the service, the console and a simulated bench with four bays, with some history and a run in progress.

--once DIR runs the example without a person: a good and a faulty unit go through tern-line-load, both
results are printed, the CSV, JSON and PDF of each are written to DIR, and everything stops.`,
		Example: "  usher demo\n  usher demo --once results",
		RunE: func(c *cobra.Command, _ []string) error {
			if once != "" {
				return a.demoOnce(c.Context(), once, orFactor(factor, onceTimeFactor))
			}
			return a.demoServe(c.Context(), listen, orFactor(factor, demoTimeFactor))
		},
	}
	c.Flags().StringVar(&once, "once", "", "run the example once and write its results to this folder")
	c.Flags().StringVar(&listen, "listen", defaultListen, "address to serve on; port 0 takes a free one")
	c.Flags().Float64Var(&factor, "time-factor", 0, "speed of bench and run clock")
	return c
}

func orFactor(x, fallback float64) float64 {
	if x == 0 {
		return fallback
	}
	return x
}

// demoOnce runs the example on free ports.
func (a *app) demoOnce(ctx context.Context, folder string, factor float64) (err error) {
	if err := os.MkdirAll(folder, 0o755); err != nil {
		return err
	}
	data, err := os.MkdirTemp("", "usher-demo-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(data)
	b, err := simbench.Start(simbench.Options{Bays: historyBays, TimeFactor: factor, Faulty: demo.FaultyUnits()})
	if err != nil {
		return err
	}
	defer b.Close()
	r, cl, err := a.startDemoService(data, "127.0.0.1:0", demo.Config(b, factor), nil, nil)
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, r.Close()) }()
	if err := seedScenario(ctx, cl); err != nil {
		return err
	}
	started := map[string]api.RunSummary{}
	serials := []string{demo.Good, demo.Faulty}
	for i, serial := range serials {
		if started[serial], err = cl.StartRun(ctx, api.StartRun{Bay: fmt.Sprintf("bay%d", i+1), Procedure: "tern-line-load",
			Serial: serial, Lot: "L-2026-11"}); err != nil {
			return err
		}
	}
	fmt.Fprintf(a.err, "Testing %s and %s at ×%g …\n", demo.Good, demo.Faulty, factor)
	for _, serial := range serials {
		doc, err := awaitFigures(ctx, cl, started[serial].ID)
		if err != nil {
			return err
		}
		if a.json {
			err = a.printJSON(doc)
		} else {
			err = a.printRun(doc)
			fmt.Fprintln(a.out)
		}
		if err != nil {
			return err
		}
		if err := a.writeResults(ctx, cl, folder, doc); err != nil {
			return err
		}
	}
	return nil
}

func (a *app) writeResults(ctx context.Context, cl *client.Client, folder string, doc api.Run) error {
	quiet := &app{out: io.Discard, err: a.err}
	for ending, fill := range map[string]func(io.Writer) error{
		"csv":  func(w io.Writer) error { return cl.Export(ctx, doc.ID, "csv", client.Range{}, w) },
		"json": func(w io.Writer) error { return cl.Export(ctx, doc.ID, "json", client.Range{}, w) },
		"pdf":  func(w io.Writer) error { return cl.Report(ctx, doc.ID, client.Printed{}, w) },
	} {
		path := filepath.Join(folder, doc.Serial+"."+ending)
		if err := quiet.write(path, fill); err != nil {
			return err
		}
		if !a.json {
			fmt.Fprintf(a.err, "Wrote %s\n", path)
		}
	}
	return nil
}

func (a *app) startDemoService(data, listen string, bench bench.Config, guard warden.Launcher,
	apart func(string) desk.Launcher) (*service.Running, *client.Client, error) {
	log, err := newLogger(a.err, "warn")
	if err != nil {
		return nil, nil, err
	}
	r, err := service.Start(service.Config{Data: data, Listen: listen, Bench: bench, Warden: guard, Desk: apart,
		Ready: demo.Procedures()}, log)
	if err != nil {
		return nil, nil, err
	}
	access, err := readLocalAccess(data)
	if err != nil {
		return nil, nil, errors.Join(err, r.Close())
	}
	return r, &client.Client{Server: access.Server, Token: access.Token}, nil
}

// seedScenario pushes the scenario's nameplates and procedures.
func seedScenario(ctx context.Context, cl *client.Client) error {
	for _, text := range demo.Nameplates() {
		if _, err := cl.PushNameplate(ctx, text); err != nil {
			return err
		}
	}
	for _, text := range demo.Procedures() {
		if _, err := cl.PushProcedure(ctx, text, "demo scenario"); err != nil {
			return err
		}
	}
	return nil
}

// demoServe runs the demo until it is stopped. The simulated bench is a process of its own, as instruments are.
func (a *app) demoServe(ctx context.Context, listen string, factor float64) error {
	data := a.data
	if data == "" {
		temporary, err := os.MkdirTemp("", "usher-demo-")
		if err != nil {
			return err
		}
		defer os.RemoveAll(temporary)
		data = temporary
	}
	if err := seedHistory(ctx, a, data); err != nil {
		return err
	}
	configFile := filepath.Join(data, "usher.yaml")
	stop, err := startBenchProcess(ctx, configFile, factor, a.err)
	if err != nil {
		return err
	}
	defer stop()
	config, err := demoConfig(configFile)
	if err != nil {
		return err
	}
	guard, err := wardenCommand(false)
	if err != nil {
		return err
	}
	apart, err := deskCommand()
	if err != nil {
		return err
	}
	r, cl, err := a.startDemoService(data, listen, config, guard, apart)
	if err != nil {
		return err
	}
	if err := a.prepareDemo(ctx, cl, r); err != nil {
		return errors.Join(err, r.Close())
	}
	return a.untilStopped(ctx, r)
}

// prepareDemo makes an account to sign in with and starts a run in each bay.
func (a *app) prepareDemo(ctx context.Context, cl *client.Client, r *service.Running) error {
	code, err := r.Service.SetupCode()
	if err != nil {
		return err
	}
	if code != "" {
		if _, err := cl.SetUp(ctx, api.Setup{Code: code, Name: demoName, Password: demoPassword}); err != nil {
			return err
		}
	}
	if err := seedScenario(ctx, cl); err != nil {
		return err
	}
	for bay, start := range map[string]api.StartRun{
		"bay1": {Procedure: "tern-line-load", Serial: demo.Good, Lot: "L-2026-11"},
		"bay2": {Procedure: "tern-warm-up", Serial: "TN-2209", Lot: "L-2026-11"},
		"bay3": {Procedure: "gannet-pulses", Serial: "GP-303"},
		"bay4": {Procedure: "tern-soak", Serial: "TN-2212", Lot: "L-2026-11"},
	} {
		start.Bay = bay
		now, err := cl.Bay(ctx, bay)
		if err != nil {
			return err
		}
		if now.State != api.BayIdle { // a battery of the last time goes on
			continue
		}
		if _, err := cl.StartRun(ctx, start); err != nil {
			return err
		}
	}
	fmt.Fprintf(a.out, "Sign in to the console as %q with the password %q.\n", demoName, demoPassword)
	return nil
}

// startBenchProcess starts the simulated bench as a child that ends with this process, and returns how to end it.
func startBenchProcess(ctx context.Context, configFile string, factor float64, errOut io.Writer) (stop func(),
	err error) {
	self, err := os.Executable()
	if err != nil {
		return nil, err
	}
	cmd := exec.CommandContext(ctx, self, "simbench", "--layouts", strings.Join(demo.Layouts(), ","), "--port", "0",
		"--time-factor", fmt.Sprint(factor), "--write-config", configFile, "--until-input-ends")
	cmd.Stderr = errOut
	input, err := cmd.StdinPipe()
	if err != nil {
		return nil, err
	}
	output, err := cmd.StdoutPipe()
	if err != nil {
		return nil, err
	}
	// An interrupt in the terminal reaches the child too; the service must be able to switch its outputs off first.
	detach(cmd)
	cmd.Cancel = func() error { return nil }
	if err := cmd.Start(); err != nil {
		return nil, err
	}
	stop = func() {
		_ = input.Close() // tells the child to end
		_ = cmd.Wait()    // its exit code has nothing to say
	}
	// The first line comes when every stand-in listens and the configuration is written.
	if _, err := bufio.NewReader(output).ReadString('\n'); err != nil {
		stop()
		return nil, fmt.Errorf("the simulated bench did not start: %w", err)
	}
	go io.Copy(io.Discard, output) //nolint:errcheck // nobody reads the rest
	return stop, nil
}

// historySerials are the units of the demo's past, one of them faulty in each way.
var historySerials = []string{"TN-2201", "TN-2202", "TN-2203", "TN-2204", "TN-2205", "TN-2206", "TN-2207", "TN-2213",
	"TN-2210", "TN-2217", "TN-2211", "TN-2219"}

// seedHistory fills an empty data folder with runs made at high speed on a simulated bench, dated over the days
// before. They are real runs over real sockets; only their dates are made up.
func seedHistory(ctx context.Context, a *app, data string) error {
	if _, err := os.Stat(filepath.Join(data, "usher.db")); err == nil {
		return nil
	}
	fmt.Fprintf(a.err, "Making some history: %d quick runs …\n", len(historySerials)+len(reviewed))
	const fast = 40
	err := a.onBench(data, simbench.Options{Bays: historyBays, TimeFactor: fast, Faulty: demo.FaultyUnits()},
		func(cl *client.Client, r *service.Running) error {
			if err := errors.Join(seedScenario(ctx, cl), historyRuns(ctx, cl, r)); err != nil {
				return err
			}
			return errors.Join(batteryHistory(r.Store, time.Now()), chargerHistory(r.Store, time.Now()),
				supplyHistory(r.Store, time.Now()))
		})
	if err != nil {
		return err
	}
	// Captures at such a speed would take long by the bench's clock.
	const slower = 10
	return a.onBench(data, simbench.Options{Layouts: []simbench.Layout{simbench.Scoped, simbench.Scoped, simbench.Outputs,
		simbench.Outputs}, TimeFactor: slower, Faulty: demo.FaultyUnits()},
		func(cl *client.Client, r *service.Running) error { return validations(ctx, cl, r) })
}

// onBench has something done by a service on a simulated bench, and ends both.
func (a *app) onBench(data string, o simbench.Options, do func(*client.Client, *service.Running) error) error {
	b, err := simbench.Start(o)
	if err != nil {
		return err
	}
	defer b.Close()
	r, cl, err := a.startDemoService(data, "127.0.0.1:0", demo.Config(b, o.TimeFactor), nil, nil)
	if err != nil {
		return err
	}
	return errors.Join(do(cl, r), r.Close())
}

// reviewed are the design reviews on record, one in each bay: of modules one as it should be and one that rings, of
// supplies with several outputs one as it should be and one whose outputs move each other.
var reviewed = []struct{ procedure, serial, lot string }{
	{"tern-validation", "TN-2204", "L-2026-11"}, {"tern-validation", "TN-2220", "L-2026-11"},
	{"dunlin-outputs", "DN-601", "L-2026-10"}, {"dunlin-outputs", "DN-604", "L-2026-10"},
}

// validations puts the design reviews on record.
func validations(ctx context.Context, cl *client.Client, r *service.Running) error {
	at := time.Now().Add(-26 * time.Hour).Truncate(time.Minute)
	runs := make([]api.RunSummary, len(reviewed))
	for i, x := range reviewed {
		var err error
		if runs[i], err = cl.StartRun(ctx, api.StartRun{Bay: fmt.Sprintf("bay%d", i+1), Procedure: x.procedure,
			Serial: x.serial, Lot: x.lot}); err != nil {
			return err
		}
	}
	for _, run := range runs {
		doc, err := awaitFigures(ctx, cl, run.ID)
		if err != nil {
			return err
		}
		at = at.Add(40 * time.Minute)
		ended := at.Add(time.Duration(doc.Duration * float64(time.Second)))
		if err := r.Store.UpdateRun(run.ID, map[string]any{"started_at": at, "ended_at": &ended,
			"operator": "edith"}); err != nil {
			return err
		}
	}
	return nil
}

func historyRuns(ctx context.Context, cl *client.Client, r *service.Running) error {
	rng := rand.New(rand.NewPCG(2026, 11))
	at := time.Now().Add(-3 * 24 * time.Hour).Truncate(time.Minute)
	for i := 0; i < len(historySerials); i += historyBays {
		var ids []string
		for k := range min(historyBays, len(historySerials)-i) {
			run, err := cl.StartRun(ctx, api.StartRun{Bay: fmt.Sprintf("bay%d", k+1), Procedure: "tern-load-steps",
				Serial: historySerials[i+k], Lot: "L-2026-11"})
			if err != nil {
				return err
			}
			ids = append(ids, run.ID)
		}
		for _, id := range ids {
			if _, err := awaitFigures(ctx, cl, id); err != nil {
				return err
			}
			at = at.Add(time.Duration(20+rng.IntN(300)) * time.Minute)
			ended := at.Add(5 * time.Second)
			if err := r.Store.UpdateRun(id, map[string]any{"started_at": at, "ended_at": &ended,
				"operator": []string{"ada", "grace", "edith"}[rng.IntN(3)]}); err != nil {
				return err
			}
		}
	}
	return nil
}

func demoConfig(file string) (bench.Config, error) {
	var c bench.Config
	text, err := os.ReadFile(file)
	if err != nil {
		return c, err
	}
	return c, yaml.Unmarshal(text, &c)
}

// detach puts a child in a process group of its own.
func detach(cmd *exec.Cmd) { cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true} }
