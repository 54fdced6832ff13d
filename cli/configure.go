package cli

import (
	"context"
	"fmt"
	"io"
	"strconv"
	"strings"

	"github.com/goccy/go-yaml"
	"github.com/spf13/cobra"

	"usherbench/api"
	"usherbench/client"
)

// configureCommands change the bench while the service runs.
func (a *app) configureCommands() []*cobra.Command {
	return []*cobra.Command{a.benchAdd(), a.benchRemove(), a.benchBay(), a.benchScan(), a.benchTrace(), a.benchTakeOver(),
		a.benchSensor(), a.benchDrill(), a.benchConfig()}
}

func (a *app) benchAdd() *cobra.Command {
	var i api.InstrumentConfig
	later := false
	c := &cobra.Command{
		Use: "add NAME ADDRESS", Short: "Add an instrument, or change one", Args: cobra.ExactArgs(2),
		Long: "Add an instrument. It is asked who it is; without --dialect the dialect that matches is taken. One that\n" +
			"does not answer is not added, unless it is to be connected --later.",
		Example: `  usher bench add psu1 tcp://192.168.1.20:5025 --due 2027-03-16
  usher bench add load1 "modbus-rtu:///dev/serial/by-id/usb-adapter?baud=9600&unit=3" --dialect my-load`,
		RunE: a.withClient(func(ctx context.Context, cl *client.Client, args []string) error {
			i.Address = args[1]
			if later && i.Dialect == "" {
				return usage("--later: who is not asked who it is needs its dialect named: --dialect")
			}
			if !later {
				found, err := cl.Discover(ctx, api.Discovery{Addresses: args[1:], Dialect: i.Dialect})
				if err != nil {
					return err
				}
				if i.Dialect, err = dialectFor(found[0], i.Dialect); err != nil {
					return err
				}
			}
			config, err := cl.PutInstrument(ctx, args[0], i)
			if err != nil || a.json {
				return a.jsonOr(config, err)
			}
			seat, err := firstSeat(ctx, cl, i.Dialect)
			if err != nil {
				return err
			}
			fmt.Fprintf(a.out, "%s at %s speaks %s. Give it a seat: usher bench bay BAY %s=%s\n", args[0], i.Address,
				i.Dialect, seat, args[0])
			return nil
		}),
	}
	c.Flags().StringVar(&i.Dialect, "dialect", "", "how it is spoken to (default: by its identity)")
	c.Flags().BoolVar(&later, "later", false, "add it though nobody answers there yet")
	c.Flags().StringVar(&i.Calibrated, "calibrated", "", "date of the last calibration, 2026-03-16")
	c.Flags().StringVar(&i.Due, "due", "", "date of the next calibration")
	return c
}

// dialectFor is the dialect for who was found at an address: the one that was named, or the only one that fits.
func dialectFor(found api.Found, named string) (string, error) {
	switch {
	case found.Identity == "" && found.Problem != "":
		return "", fmt.Errorf("nobody says at %s who it is: %s; check its power, cable and address, its terminator or its "+
			"unit on the line, or add it all the same: --later", found.Address, found.Problem)
	case named != "":
		return named, nil
	case len(found.Dialects) != 1:
		return "", fmt.Errorf("%s says %q, for which %d dialects fit %v; name one with --dialect%s", found.Address,
			found.Identity, len(found.Dialects), found.Dialects, because(found.Problem))
	}
	return found.Dialects[0], nil
}

// firstSeat is the kind of seat that an instrument of a dialect fills first of all.
func firstSeat(ctx context.Context, cl *client.Client, dialect string) (string, error) {
	all, err := cl.Dialects(ctx)
	if err != nil {
		return "", err
	}
	for _, d := range all {
		if d.Name == dialect && len(d.Seats) > 0 {
			return d.Seats[0], nil
		}
	}
	return "SEAT", nil
}

func because(problem string) string {
	if problem == "" {
		return ""
	}
	return ": " + problem
}

func (a *app) benchRemove() *cobra.Command {
	bay := false
	c := &cobra.Command{
		Use: "remove NAME", Short: "Take an instrument away, or a bay with --bay", Args: cobra.ExactArgs(1),
		Example: "  usher bench remove psu2\n  usher bench remove bay4 --bay",
		RunE: a.withClient(func(ctx context.Context, cl *client.Client, args []string) error {
			remove := cl.RemoveInstrument
			if bay {
				remove = cl.RemoveBay
			}
			config, err := remove(ctx, args[0])
			if err != nil || a.json {
				return a.jsonOr(config, err)
			}
			fmt.Fprintf(a.out, "%s is gone; its record stays.\n", args[0])
			return nil
		}),
	}
	c.Flags().BoolVar(&bay, "bay", false, "NAME is a bay")
	return c
}

func (a *app) benchBay() *cobra.Command {
	var b api.BayConfig
	var interval, lostAfter, handFor string
	var probes, leads []string
	c := &cobra.Command{
		Use: "bay BAY SEAT=INSTRUMENT[:CHANNEL] …", Short: "Say what fills the seats of a bay", Args: cobra.MinimumNArgs(2),
		Long: `Say what fills the seats of a bay, in place of what did. Several channels joined by
+ work as one in parallel (setpoints shared, readings summed), joined by ++ in series. --probe says what a
channel of a scope sees: NAME=CHANNEL:FACTOR, with A behind the factor for a current. --leads says the
resistance of both leads of a seat together and what it is known to, SEAT=OHMS:WITHIN: volts that are not sensed
at the unit are corrected for them. SEAT=0 takes the correction away.`,
		Example: "  usher bench bay bay1 source=psu1:1 load=load1\n  usher bench bay bay2 source=psu1:1+psu1:2 load=load2 " +
			"--title \"High current\"\n  usher bench bay bay3 source=psu2 scope=scope1 --probe output=1:10 " +
			"--probe current=2:100A\n  usher bench bay bay1 source=psu1 load=load1 --leads load=0.012:0.001",
		RunE: a.withClient(func(ctx context.Context, cl *client.Client, args []string) error {
			config, err := cl.BenchConfig(ctx)
			if err != nil {
				return err
			}
			before := config.Bays[args[0]]
			b.Handler, b.Interval, b.LostAfter, b.HandFor = before.Handler, before.Interval, before.LostAfter, before.HandFor
			if b.Title == "" {
				b.Title = before.Title
			}
			for text, to := range map[string]*api.Span{interval: &b.Interval, lostAfter: &b.LostAfter, handFor: &b.HandFor} {
				if text != "" {
					if err := to.UnmarshalText([]byte(text)); err != nil {
						return usage("%s", err)
					}
				}
			}
			b.Seats = map[string]api.SeatConfig{}
			for _, arg := range args[1:] {
				name, filling, ok := strings.Cut(arg, "=")
				if !ok {
					return usage("%q: write it like source=psu1:1", arg)
				}
				seat := before.Seats[name] // sensors and defaults stay
				seat.Instrument, seat.Channel, seat.Gang, seat.Channels = "", 0, "", nil
				if err := fill(&seat, filling); err != nil {
					return err
				}
				b.Seats[name] = seat
			}
			if err := putProbes(b.Seats, probes); err != nil {
				return err
			}
			if err := putLeads(b.Seats, leads); err != nil {
				return err
			}
			config, err = cl.PutBay(ctx, args[0], b)
			if err != nil || a.json {
				return a.jsonOr(config, err)
			}
			fmt.Fprintf(a.out, "%s is configured: %s\n", args[0], strings.Join(args[1:], ", "))
			return nil
		}),
	}
	c.Flags().StringVar(&b.Title, "title", "", "what people call it")
	c.Flags().StringArrayVar(&probes, "probe", nil, "what a channel of the scope sees, NAME=CHANNEL:FACTOR")
	c.Flags().StringArrayVar(&leads, "leads", nil, "resistance of the leads of a seat, SEAT=OHMS:WITHIN")
	c.Flags().StringVar(&interval, "interval", "", "between frames, 20ms")
	c.Flags().StringVar(&lostAfter, "lost-after", "", "how long an instrument may be silent, 2s")
	c.Flags().StringVar(&handFor, "hand-for", "", "after how long without a word outputs that are on by hand go off, 30m")
	return c
}

func (a *app) benchScan() *cobra.Command {
	var where api.Discovery
	c := &cobra.Command{
		Use: "scan [ADDRESS …]", Short: "Ask who answers at the named places, and nowhere else", Args: cobra.ArbitraryArgs,
		Example: "  usher bench scan --hosts 192.168.1.20,192.168.1.21 --ports 5025,502\n  usher bench scan --serial " +
			"--bauds 9600,115200\n  usher bench scan --mdns\n  usher bench scan usbtmc:///dev/usbtmc0",
		RunE: a.withClient(func(ctx context.Context, cl *client.Client, args []string) error {
			where.Addresses = args
			found, err := cl.Discover(ctx, where)
			if err != nil || a.json {
				return a.jsonOr(found, err)
			}
			rows := [][]string{{"ADDRESS", "IDENTITY", "DIALECTS", "ON THE BENCH AS"}}
			for _, f := range found {
				identity := f.Identity
				if identity == "" {
					identity = "■ " + f.Problem
				}
				rows = append(rows, []string{f.Address, identity, orDash(strings.Join(f.Dialects, ", ")), orDash(f.Name)})
			}
			return a.table(rows)
		}),
	}
	c.Flags().StringSliceVar(&where.Hosts, "hosts", nil, "hosts to look at, with every port of --ports")
	c.Flags().IntSliceVar(&where.Ports, "ports", nil, "ports to look at")
	c.Flags().BoolVar(&where.Announced, "mdns", false,
		"look at the instruments that announce themselves on the networks of the service's machine")
	c.Flags().BoolVar(&where.Serial, "serial", false, "look at the serial devices of the service's machine")
	c.Flags().IntSliceVar(&where.Bauds, "bauds", nil, "baud rates to try on serial devices (default 9600 and 115200)")
	return c
}

func (a *app) benchTrace() *cobra.Command {
	var limit int
	var csvFile string
	c := &cobra.Command{
		Use: "messages INSTRUMENT", Short: "Show the last messages to an instrument, with answers and latencies",
		Args:    cobra.ExactArgs(1),
		Example: "  usher bench messages load1 --limit 20\n  usher bench messages load1 --csv load1.csv",
		RunE: a.withClient(func(ctx context.Context, cl *client.Client, args []string) error {
			if csvFile != "" {
				return a.write(csvFile, func(w io.Writer) error { return cl.ExchangesCSV(ctx, args[0], limit, w) })
			}
			list, err := cl.Exchanges(ctx, args[0], limit)
			if err != nil || a.json {
				return a.jsonOr(list, err)
			}
			rows := [][]string{{"AT", "MESSAGE", "ANSWER", "LATENCY"}}
			for _, x := range list {
				answer := x.Answer
				if x.Error != "" {
					answer = "■ " + x.Error
				}
				rows = append(rows, []string{x.At.Local().Format("15:04:05.000"), x.Message, orDash(answer),
					fmt.Sprintf("%.2f ms", x.Latency*1000)})
			}
			return a.table(rows)
		}),
	}
	c.Flags().IntVar(&limit, "limit", 40, "how many, 1 to 1000")
	c.Flags().StringVar(&csvFile, "csv", "", "write them to this file as CSV")
	return c
}

func (a *app) benchTakeOver() *cobra.Command {
	var seatDefaults bool
	c := &cobra.Command{
		Use: "take-over BAY", Short: "Print what is set now as a stage of a procedure", Args: cobra.ExactArgs(1),
		Example: "  usher bench take-over bay1\n  usher bench take-over bay1 --defaults",
		RunE: a.withClient(func(ctx context.Context, cl *client.Client, args []string) error {
			taken, err := cl.TakeOver(ctx, args[0])
			if err != nil {
				return err
			}
			if seatDefaults {
				config, err := cl.BenchConfig(ctx)
				if err != nil {
					return err
				}
				b := config.Bays[args[0]]
				for name, values := range taken.Defaults {
					seat := b.Seats[name]
					seat.Defaults = values
					b.Seats[name] = seat
				}
				if _, err := cl.PutBay(ctx, args[0], b); err != nil {
					return err
				}
			}
			if a.json {
				return a.printJSON(taken)
			}
			fmt.Fprint(a.out, taken.Stage)
			if seatDefaults {
				fmt.Fprintf(a.err, "Every run in %s begins with these settings from now on.\n", args[0])
			}
			return nil
		}),
	}
	c.Flags().BoolVar(&seatDefaults, "defaults", false,
		"also make it the defaults of the seats, which every run begins with; the bay is made safe")
	return c
}

func (a *app) benchSensor() *cobra.Command {
	var zero, clearIt bool
	var points []string
	var from string
	var scale, offset float64
	c := &cobra.Command{
		Use:   "sensor BAY SEAT.QUANTITY",
		Short: "Zero, calibrate or replace a sensor: value = (reading − zero) × scale + offset", Args: cobra.ExactArgs(2),
		Example: `  usher bench sensor bay1 meter.amps --from volts --scale 2000      a shunt of 0.5 mΩ read by a voltmeter
  usher bench sensor bay1 meter.amps --zero
  usher bench sensor bay1 thermo.celsius --point 20.4=20 --point 80.1=80`,
		RunE: a.withClient(func(ctx context.Context, cl *client.Client, args []string) error {
			seat, q, ok := strings.Cut(args[1], ".")
			if !ok {
				return usage("%q: write it like thermo.celsius", args[1])
			}
			change := api.SensorChange{Zero: zero}
			for _, p := range points {
				reading, truth, ok := strings.Cut(p, "=")
				x, errX := strconv.ParseFloat(reading, 64)
				y, errY := strconv.ParseFloat(truth, 64)
				if !ok || errX != nil || errY != nil {
					return usage("%q: write a point as READING=TRUE, both in the base unit", p)
				}
				change.Points = append(change.Points, api.CalibrationPoint{Reading: x, True: y})
			}
			if from != "" || scale != 0 || offset != 0 || clearIt {
				change.Sensor = &api.SensorConfig{From: from, Scale: scale, Offset: offset}
			}
			config, err := cl.ChangeSensor(ctx, args[0], seat, q, change)
			if err != nil || a.json {
				return a.jsonOr(config, err)
			}
			s, ok := config.Bays[args[0]].Seats[seat].Sensors[q]
			if !ok {
				fmt.Fprintf(a.out, "%s of %s is read as it is.\n", args[1], args[0])
				return nil
			}
			if s.Scale == 0 {
				s.Scale = 1
			}
			fmt.Fprintf(a.out, "%s = (%s − %g) × %g + %g\n", args[1], orWord(s.From, q), s.Zero, s.Scale, s.Offset)
			return nil
		}),
	}
	c.Flags().BoolVar(&zero, "zero", false, "what is read now becomes 0")
	c.Flags().BoolVar(&clearIt, "clear", false, "read the instrument as it is")
	c.Flags().StringArrayVar(&points, "point", nil, "READING=TRUE, given twice")
	c.Flags().StringVar(&from, "from", "", "quantity that the instrument reads")
	c.Flags().Float64Var(&scale, "scale", 0, "factor, in base units")
	c.Flags().Float64Var(&offset, "offset", 0, "added, in the base unit")
	return c
}

func orWord(s, fallback string) string {
	if s == "" {
		return fallback
	}
	return s
}

func (a *app) benchConfig() *cobra.Command {
	return &cobra.Command{
		Use: "config", Short: "Print the bench as it is configured, as YAML for usher.yaml", Args: cobra.NoArgs,
		Example: "  usher bench config > usher.yaml",
		RunE: a.withClient(func(ctx context.Context, cl *client.Client, _ []string) error {
			config, err := cl.BenchConfig(ctx)
			if err != nil || a.json {
				return a.jsonOr(config, err)
			}
			text, err := yaml.Marshal(struct {
				Instruments map[string]api.InstrumentConfig `yaml:"instruments"`
				Bays        map[string]api.BayConfig        `yaml:"bays"`
			}{config.Instruments, config.Bays})
			if err != nil {
				return err
			}
			_, err = a.out.Write(text)
			return err
		}),
	}
}

var findingSigns = map[api.Verdict]string{api.Blocks: "■ blocks", api.Warns: "▲ warns", api.Fine: "● fine"}
